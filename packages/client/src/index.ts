export { LedgermanClient, TargetClient } from './ledgerman-client.js'
export type { ChangeOptions, Find } from './ledgerman-client.js'
export type { ConnectionOptions } from './http-client.js'
export { propertyFromText, propertyToText } from './property-text.js'
