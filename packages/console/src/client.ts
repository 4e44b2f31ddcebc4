import { LedgermanClient } from '@ledgerman/client'

/** The service that this page came from; the session cookie stands for the token. */
export const client = new LedgermanClient({ url: '' })
