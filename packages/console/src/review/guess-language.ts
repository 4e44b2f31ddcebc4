/** The languages that are read, by what their files end in. */
export const LANGUAGES = [
  { title: 'SQL', value: 'sql' },
  { title: 'TypeScript', value: 'ts' },
  { title: 'JavaScript', value: 'js' },
  { title: 'Python', value: 'py' },
  { title: 'PHP', value: 'php' },
  { title: 'Java', value: 'java' },
  { title: 'C#', value: 'cs' },
]

/** What a pasted text is written in, by what only one of them has. */
export function guessLanguage(text: string): string {
  if (/<\?php|\$\w+->|\$this\b/.test(text)) return 'php'
  if (/^[ \t]*(def |import \w+\s*$|from \w+ import|with .*:\s*$|class \w.*:\s*$)/m.test(text)) return 'py'
  if (/\b(using System|namespace \w+|Npgsql\w*|await using|new SqlCommand)\b/.test(text)) return 'cs'
  if (/\b(public|private|protected)\s+[\w<>[\]]+\s+\w+\s*\(|PreparedStatement|java\.sql/.test(text)) return 'java'
  if (/^\s*(--|\/\*|select|insert|update|delete|with|begin|create|alter)\b/i.test(text)) return 'sql'
  return 'ts'
}
