// @vitest-environment node
/** The console's reader, held against the vectors of the format, as the workstation's is. */
import { init } from '@bokuweb/zstd-wasm'
import { beforeAll, describe, expect, it } from 'vitest'
import { fromHex, toHex, utf8, type Bytes } from './bytes'
import { readCbor } from './cbor'
import { openChunk } from './chunk'
import { partsBetween, readContent, type ChunkSource } from './content'
import { storeKeys } from './keys'
import { readListing, readPage } from './listing'
import { sealOrder } from './order'
import { openPoint } from './point'
import { readRecoveryKey } from './recoveryKey'
import { readSlot, unwrap, type Secret } from './slots'

interface With {
  store: string
  store_key: string
  passphrase?: string
  recovery_key?: string
  office_key_file?: string
  office_passphrase?: string
  name: string
  content: string
  names: string[]
  lengths: number[]
  pages: Record<string, string>
  as_printed: string
  sequence: number
  host: string
  id: string
  point: number
  paths: string[]
  into: string | null
  login: string
  session: string
  created: number
  expires: number
}

interface Vector {
  file: string
  structure: string
  bytes: string
  expect: string
  with: With
}

const files = import.meta.glob<Omit<Vector, 'file'>>('../../../docs/vectors/*.json', { eager: true, import: 'default' })
const vectors = Object.entries(files).map(([path, vector]) => ({ file: path.slice(path.lastIndexOf('/') + 1), ...vector }))
const of = (structure: string) => vectors.filter((vector) => vector.structure === structure)
const keysOf = (vector: Vector) => storeKeys(fromHex(vector.with.store), fromHex(vector.with.store_key))

/** Gives the pages that a vector brings. */
const pagesOf = (vector: Vector): ChunkSource => ({
  get: (names) => Promise.resolve(names.map((name) => fromHex(vector.with.pages[toHex(name)] ?? ''))),
})

function secretOf({ with: given }: Vector): Secret {
  if (given.passphrase !== undefined) return { kind: 'passphrase', passphrase: given.passphrase }
  if (given.recovery_key !== undefined) return { kind: 'recovery-key', typed: given.recovery_key }
  if (given.office_key_file !== undefined) return { kind: 'office-key', file: fromHex(given.office_key_file), passphrase: given.office_passphrase ?? '' }
  return { kind: 'unencrypted' }
}

const READERS: Record<string, (vector: Vector, bytes: Bytes) => Promise<void>> = {
  async slot(vector, bytes) {
    const key = await unwrap(await readSlot(bytes), secretOf(vector))
    expect(key && toHex(key)).toBe(vector.with.store_key)
  },
  async chunk(vector, bytes) {
    const content = await openChunk(await keysOf(vector), fromHex(vector.with.name), bytes)
    expect(toHex(content)).toBe(vector.with.content)
  },
  async content(vector, bytes) {
    const lengths: number[] = []
    for await (const { part } of partsBetween(pagesOf(vector), readContent(readCbor('a reference', bytes)))) lengths.push(part.length)
    expect(lengths).toEqual(vector.with.lengths)
  },
  page: (vector, bytes) =>
    Promise.resolve().then(() => {
      expect(readPage(bytes).map((entry) => new TextDecoder().decode(entry.name))).toEqual(vector.with.names)
    }),
  async point(vector, bytes) {
    const body = await openPoint(await keysOf(vector), vector.with.sequence, bytes)
    expect(body.host).toBe(vector.with.host)
    const names: string[] = []
    for await (const entries of readListing(pagesOf(vector), body.root)) names.push(...entries.map((entry) => new TextDecoder().decode(entry.name)))
    expect(names.length).toBeGreaterThan(0)
  },
  async 'recovery key'(vector, bytes) {
    const key = await readRecoveryKey(new TextDecoder().decode(bytes))
    expect(key).toEqual(await readRecoveryKey(vector.with.as_printed))
  },
}

beforeAll(() => init())

describe('orders', () => {
  it.each(of('order').filter((vector) => vector.expect === 'sound'))('$file is what this console seals', async (vector) => {
    const { id, point, paths, into, login, session, created, expires } = vector.with
    const order = { id: fromHex(id), point, paths: paths.map(fromHex), into: into === null ? undefined : fromHex(into), login, session, created, expires }
    const bytes = fromHex(vector.bytes)
    expect(toHex(await sealOrder(await keysOf(vector), order, bytes.subarray(2, 14)))).toBe(vector.bytes)
  })

  it('refuses to name more than an order takes', async () => {
    const [vector] = of('order')
    const keys = await keysOf(vector as Vector)
    const order = { id: new Uint8Array(16), point: 1, into: undefined, login: 'ingrid', session: 's', created: 0, expires: 1 }
    const many = Array.from({ length: 501 }, () => utf8('/a'))
    const long = Array.from({ length: 11 }, () => utf8(`/${'a'.repeat(4000)}`))
    for (const paths of [many, long]) await expect(sealOrder(keys, { ...order, paths })).rejects.toThrow('cannot name')
  })
})

describe('the vectors of the format', () => {
  for (const [structure, read] of Object.entries(READERS)) {
    it(`has vectors of ${structure}`, () => expect(of(structure).length).toBeGreaterThan(0))
    for (const vector of of(structure)) {
      it(`${vector.file}: ${vector.expect}`, async () => {
        const reading = read(vector, fromHex(vector.bytes))
        if (vector.expect === 'sound') await reading
        else await expect(reading).rejects.toThrow()
      })
    }
  }
})
