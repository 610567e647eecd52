/** The recovery key as a person types it (§ 3): eight groups of four symbols of Crockford's base 32. */
import { utf8, type Bytes } from './bytes'
import { ImageError } from './errors'
import { hasher } from './hash'

const SYMBOLS = '0123456789ABCDEFGHJKMNPQRSTVWXYZ'
const GROUPS = 8

/** The 16 bytes of a recovery key. Blanks and hyphens are ignored, case does not matter; a mistyped group is named. */
export async function readRecoveryKey(text: string): Promise<Bytes> {
  const values = [...text].filter((symbol) => !/[\s-]/u.test(symbol)).map(valueOf)
  if (values.length !== 4 * GROUPS) throw mistyped(`a recovery key has 8 groups of 4 symbols, 32 in all; this has ${values.length}`)
  const key = new Uint8Array(2 * GROUPS)
  const plain = await hasher()
  for (let group = 0; group < GROUPS; group++) {
    const bits = values.slice(4 * group, 4 * group + 4).reduce((sum, value) => sum * 32 + value, 0)
    const pair = Uint8Array.of(bits >>> 12, (bits >>> 4) & 0xff)
    key.set(pair, 2 * group)
    const check = (plain.hash(utf8('jetfrost recovery group'), Uint8Array.of(group), pair)[0] ?? 0) & 0xf
    if ((bits & 0xf) !== check) throw mistyped(`group ${group + 1} is mistyped: compare it with the printed key`)
  }
  return key
}

function valueOf(symbol: string): number {
  const upper = symbol.toUpperCase().replace('O', '0').replace(/[IL]/, '1')
  const value = upper.length === 1 ? SYMBOLS.indexOf(upper) : -1
  if (value < 0) throw mistyped(`‘${symbol}’ does not occur in recovery keys`)
  return value
}

const mistyped = (why: string) => new ImageError('secret', why)
