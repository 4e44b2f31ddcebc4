import { LedgermanProblem, type DefinitionKind } from '@ledgerman/contract'
import { countRevisions, publishDefinitions, type NewDefinition, type Revision } from '../home/definition-store.js'
import type { HomeDatabase } from '../home/home-database.js'

/** How often it is looked again whether definitions fit, where others publish meanwhile. */
const MOST_LOOKS = 5

/**
 * Publishes and withdraws definitions that were found to fit what else is published, all or none: where that is another by the time
 * they are published, it is looked again.
 *
 * @param check what is to be published and withdrawn; throws where it does not fit
 * @throws LedgermanProblem record-changed where a latest revision is not the expected one, or others publish all the time; and what `check` throws
 */
export async function publishChecked(
  home: HomeDatabase,
  target: string,
  actor: string,
  check: () => Promise<readonly NewDefinition[]>,
): Promise<{ revision: Revision<DefinitionKind>; isNew: boolean }[]> {
  for (let look = 0; look < MOST_LOOKS; look++) {
    const seen = await countRevisions(target, (text, values) => home.query(text, values))
    const published = await publishDefinitions(home, target, await check(), actor, seen)
    if (published) return published
  }
  throw new LedgermanProblem(
    'record-changed',
    `Others publish definitions of ${target} all the time. Nothing was published; try again.`,
    { target },
  )
}
