export { startService } from './service.js'
export { readServiceConfig } from './config/service-config.js'
