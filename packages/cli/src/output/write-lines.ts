import type { CommandContext } from '../command-context.js'

/** How often it is shown how many records have been written, in milliseconds. */
const SHOW_EVERY_MS = 250

/** Writes lines as they come; where they go into a file or a pipe, a terminal shows how many they are. */
export async function writeLines(context: CommandContext, texts: AsyncIterable<string>): Promise<void> {
  const started = performance.now()
  let [lines, shownAt] = [0, started]
  for await (const text of texts) {
    await context.write(text)
    if (!context.terminal.isRedirected) continue
    for (let at = text.indexOf('\n'); at >= 0; at = text.indexOf('\n', at + 1)) lines++
    const now = performance.now()
    if (now - shownAt < SHOW_EVERY_MS) continue
    shownAt = now
    context.showProgress(`${lines} lines, ${Math.round((lines / (now - started)) * 1000)} a second`)
  }
  context.showProgress('')
}
