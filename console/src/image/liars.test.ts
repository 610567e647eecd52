// @vitest-environment node
/** A service that lies to the console: what it can give instead of what was asked for, and that nothing comes of it. */
import { init } from '@bokuweb/zstd-wasm'
import { beforeAll, describe, expect, it } from 'vitest'
import { fromHex } from './bytes'
import { contentLength, openChunk } from './chunk'
import { fetched } from './chunks'
import { readContent } from './content'
import { storeKeys } from './keys'
import { openPoint } from './point'
import { unlock } from './slots'

interface Vector {
  bytes: string
  with: { store: string; store_key: string; name: string; content: string; passphrase: string; sequence: number }
}
const files = import.meta.glob<Vector>('../../../docs/vectors/*.json', { eager: true, import: 'default' })
function vector(name: string): Vector {
  const found = files[`../../../docs/vectors/${name}.json`]
  if (!found) throw new Error(`there is no vector ${name}`)
  return found
}
const keysOf = (of: Vector) => storeKeys(fromHex(of.with.store), fromHex(of.with.store_key))

beforeAll(() => init())

describe('a service that lies', () => {
  it('cannot give one chunk for another, or one point for another', async () => {
    const [one, other, point] = [vector('chunk-compressed'), vector('chunk-stored'), vector('point')]
    const keys = await keysOf(one)
    await expect(openChunk(keys, fromHex(other.with.name), fromHex(one.bytes))).rejects.toThrow('it was altered, or is another one')
    await expect(openPoint(await keysOf(point), point.with.sequence + 1, fromHex(point.bytes))).rejects.toThrow('another one than was asked for')
  })

  it('cannot leave a chunk out unnoticed, or give too few', async () => {
    const one = vector('chunk-compressed')
    const keys = await keysOf(one)
    const name = fromHex(one.with.name)
    await expect(fetched(keys, () => Promise.resolve(['missing'])).get([name])).rejects.toThrow('missing from the image store')
    await expect(fetched(keys, () => Promise.resolve([])).get([name])).rejects.toThrow('missing from the image store')
  })

  it('learns nothing by slots that make a guess cheap, and none is tried that would cost too much', async () => {
    const slot = vector('slot-passphrase')
    const store = fromHex(slot.with.store)
    const secret = { kind: 'passphrase' as const, passphrase: slot.with.passphrase }
    await expect(unlock(store, [fromHex(slot.bytes)], secret)).rejects.toThrow('make guessing the passphrase cheap')
    await expect(unlock(store, [fromHex(vector('slot-hostile-cost').bytes)], secret)).rejects.toThrow()
    const another = new Uint8Array(16)
    await expect(unlock(another, [fromHex(slot.bytes)], secret)).rejects.toThrow('no unlock method of this kind')
    await expect(unlock(store, Array.from({ length: 17 }, () => fromHex(slot.bytes)), secret)).rejects.toThrow('more key slots')
  })

  it('makes the browser allocate nothing on its word', () => {
    const frame = (descriptor: number, ...rest: number[]) => Uint8Array.of(0x28, 0xb5, 0x2f, 0xfd, descriptor, ...rest)
    expect(contentLength(frame(0xe0, 0, 0, 0, 0, 1, 0, 0, 0))).toBe(2 ** 32)
    expect(contentLength(frame(0xa0, 0, 0, 0, 0x80))).toBe(2 ** 31)
    expect(contentLength(frame(0x60, 1, 0))).toBe(257)
    expect(() => contentLength(frame(0xe0, 0))).toThrow('too short')
    expect(() => readContent([2 ** 52, 0, [[2 ** 52, new Uint8Array(32)]]])).toThrow('longer than chunks are')
  })
})
