/** What is searched for: part of a name, or a pattern with `*` and `?` for a whole name. Case does not matter. */

export type Matcher = (name: string) => boolean

export function matcher(wanted: string): Matcher {
  const normal = fold(wanted.trim())
  if (!/[*?]/.test(normal)) return (name) => fold(name).includes(normal)
  const parts = [...normal].map((symbol) => (symbol === '*' ? '.*' : symbol === '?' ? '.' : symbol.replace(/[\\^$.|+()[\]{}/-]/, '\\$&')))
  const whole = new RegExp(`^${parts.join('')}$`, 'su')
  return (name) => whole.test(fold(name))
}

const fold = (text: string) => text.normalize('NFC').toLowerCase()
