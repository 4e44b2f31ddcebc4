import type { Definitions, ScratchSource, Target } from '@ledgerman/core'
import type { Services } from '../routes/services.js'

/** Where the definitions of a drill come from. */
export function drillDefinitions({ targets }: Pick<Services, 'targets'>, target: Target, actor: string): Definitions {
  return {
    actor,
    mapping: (on, name) => targets.mapping(on, name),
    transaction: (name, revision) => targets.transaction(target, name, revision),
  }
}

/** Where a drill's scratch database is built, and of what: the tables as they are now. */
export async function drillSource(
  { targets, homeUrl }: Pick<Services, 'targets' | 'homeUrl'>,
  target: Target,
): Promise<ScratchSource> {
  target.forgetCatalogue()
  return {
    target,
    targetUrl: targets.url(target.name),
    homeUrl,
    findMapping: (name) => targets.mapping(target, name),
    env: process.env,
    sensitive: await targets.sensitiveColumns(target),
  }
}
