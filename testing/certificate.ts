import { execFileSync } from 'node:child_process'
import { join } from 'node:path'

/** Makes a certificate of a server at `localhost` that it signs itself, for a day or two. @returns where it and its key are */
export function makeCertificate(folder: string): { key: string; certificate: string } {
  const [key, certificate] = [join(folder, 'server.key'), join(folder, 'server.crt')]
  const subject = ['-subj', '/CN=localhost', '-addext', 'subjectAltName=DNS:localhost']
  execFileSync(
    'openssl',
    ['req', '-x509', '-newkey', 'rsa:2048', '-nodes', '-days', '2', '-keyout', key, '-out', certificate, ...subject],
    { stdio: 'ignore' },
  )
  return { key, certificate }
}
