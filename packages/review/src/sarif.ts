import { REVIEW_RULES, type Review } from '@ledgerman/contract'
import { WHY } from './rules/finding.js'

/** A review as SARIF 2.1.0 (OASIS), which code hosts show beside the lines of a change. */
export function toSarif({ findings }: Review, version: string): Record<string, unknown> {
  return {
    $schema: 'https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json',
    version: '2.1.0',
    runs: [
      {
        tool: {
          driver: {
            name: 'Ledgerman review',
            version,
            rules: REVIEW_RULES.map((id) => ({ id, shortDescription: { text: WHY[id] } })),
          },
        },
        columnKind: 'utf16CodeUnits',
        results: findings.map((each) => ({
          ruleId: each.rule,
          ruleIndex: REVIEW_RULES.indexOf(each.rule),
          level: each.level,
          message: { text: each.instead === null ? each.message : `${each.message}\nInstead: ${each.instead}` },
          locations: [
            {
              physicalLocation: {
                artifactLocation: { uri: each.path.split('/').map(encodeURIComponent).join('/') },
                region: {
                  startLine: each.line,
                  startColumn: each.column,
                  endLine: each.endLine,
                  endColumn: Math.max(each.endColumn, 1),
                },
              },
            },
          ],
          ...(each.accepted === undefined
            ? {}
            : { suppressions: [{ kind: 'inSource', justification: each.accepted }] }),
        })),
      },
    ],
  }
}
