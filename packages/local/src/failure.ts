/** Something the person at the keyboard can mend: said as it is, without a stack. */
export class Failure extends Error {
  override readonly name = 'Failure'
}
