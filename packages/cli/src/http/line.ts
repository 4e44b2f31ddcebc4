/** What comes over a line: bytes, and then one of the others, once. */
export interface Heard {
  bytes: (bytes: Buffer) => void
  end: () => void
  failed: (error: Error) => void
}

/** A connection over TCP that one message is sent over, and whatever comes back is heard. */
export interface Line {
  pause(): void
  resume(): void
  /** Hangs up: nothing more is heard. */
  close(): void
}

export interface Address {
  /** A name, or an IP address without brackets. */
  host: string
  port: number
}

/** Opens a line and sends a message over it. */
export type OpenLine = (address: Address, message: Buffer, heard: Heard) => Line
