import { ref } from 'vue'
import { includesRole, isProblem, type Role, type SessionInfo } from '@ledgerman/contract'
import { client } from '../client.js'

const session = ref<SessionInfo | null>(null)

/** Who is signed in. The secret itself is in a cookie that no script can read. */
export function useSession() {
  async function signIn(token: string): Promise<void> {
    session.value = await client.signIn(token)
  }

  async function signOut(): Promise<void> {
    await client.signOut()
    session.value = null
  }

  /** Whether the token has a role, or one that includes it. */
  const may = (role: Role) => session.value !== null && includesRole(session.value.role, role)

  return { session, may, signIn, signOut }
}

/** Finds out, once, whether a session is open from before. */
export async function loadSession(): Promise<void> {
  if (session.value) return
  try {
    session.value = await client.session()
  } catch (error) {
    if (!isProblem(error, 'unauthenticated')) throw error
  }
}
