import { createPrivateKey, generateKeyPairSync } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { sealSigner, type SealSigner } from '@ledgerman/seal'

/**
 * The key that seals are signed with. Where none is named it is made in the data folder, as `seal-key.pem`, readable by its owner only;
 * services that seal the same books share the file.
 *
 * @param file as the configuration names it
 * @throws Error that says what is wrong with it.
 */
export function readSealKey(file: string | undefined, dataDir: string): SealSigner {
  const path = file ?? join(dataDir, 'seal-key.pem')
  if (file === undefined && !existsSync(path)) makeKey(path, dataDir)
  try {
    return sealSigner(createPrivateKey(readFileSync(path, 'utf8')))
  } catch (error) {
    throw new Error(
      `sealKey: ${path} has no private key for Ed25519 (PEM, PKCS #8): ${(error as Error).message}. Make one: openssl genpkey -algorithm ed25519 -out FILE`,
      { cause: error },
    )
  }
}

function makeKey(path: string, dataDir: string): void {
  mkdirSync(dataDir, { recursive: true })
  const pem = generateKeyPairSync('ed25519').privateKey.export({ type: 'pkcs8', format: 'pem' })
  try {
    writeFileSync(path, pem, { mode: 0o600, flag: 'wx' })
  } catch (error) {
    // Another service of the same folder was first: its key is the one.
    if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error
  }
}
