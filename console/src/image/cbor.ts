/** CBOR (RFC 8949) as image stores have it: definite lengths, shortest integers, maps with integer keys. Nothing is taken for what it should be. */
import { decode, decodeFirst } from 'cborg'
import type { Bytes } from './bytes'
import { damaged } from './errors'

const STRICT = {
  strict: true,
  useMaps: true,
  allowIndefinite: false,
  allowUndefined: false,
  allowInfinity: false,
  allowNaN: false,
  allowBigInt: true,
  rejectDuplicateMapKeys: true,
}

/** A single value. */
export function readCbor(what: string, bytes: Uint8Array): unknown {
  try {
    return decode(bytes, STRICT) as unknown
  } catch {
    throw damaged(what, 'it is not CBOR')
  }
}

/** A sequence of values (RFC 8742). */
export function readCborSequence(what: string, bytes: Uint8Array): unknown[] {
  const values: unknown[] = []
  try {
    for (let rest = bytes; rest.length > 0; ) {
      const [value, behind] = decodeFirst(rest, STRICT) as [unknown, Uint8Array]
      values.push(value)
      rest = behind
    }
  } catch {
    throw damaged(what, 'it is not a sequence of CBOR')
  }
  return values
}

export function readBytes(what: string, value: unknown, length?: number): Bytes {
  if (!(value instanceof Uint8Array) || (length !== undefined && value.length !== length)) {
    throw damaged(what, 'bytes of another kind or length were expected')
  }
  return new Uint8Array(value)
}

export function readText(what: string, value: unknown): string {
  if (typeof value !== 'string') throw damaged(what, 'a text was expected')
  return value
}

export function readArray(what: string, value: unknown): unknown[] {
  if (!Array.isArray(value)) throw damaged(what, 'a list was expected')
  return value as unknown[]
}

/** An integer that this language can count with. */
export function readInteger(what: string, value: unknown, least = 0, most = Number.MAX_SAFE_INTEGER): number {
  if (typeof value !== 'number' || !Number.isInteger(value) || value < least || value > most) throw damaged(what, 'a number is out of range')
  return value
}

/** A map with integer keys; what is asked for and not there is damage, unless it may be absent. Unknown keys are ignored (§ 2). */
export class Fields {
  private readonly map: Map<unknown, unknown>

  constructor(
    private readonly what: string,
    value: unknown,
  ) {
    if (!(value instanceof Map)) throw damaged(what, 'a map was expected')
    this.map = value
  }

  has(key: number): boolean {
    return this.map.get(key) !== undefined && this.map.get(key) !== null
  }

  bytes = (key: number, length?: number) => readBytes(this.what, this.map.get(key), length)
  text = (key: number) => readText(this.what, this.map.get(key))
  array = (key: number) => readArray(this.what, this.map.get(key))
  integer = (key: number, least?: number, most?: number) => readInteger(this.what, this.map.get(key), least, most)
  value = (key: number): unknown => this.map.get(key)
}
