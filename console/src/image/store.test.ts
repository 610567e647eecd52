// @vitest-environment node
import { describe, expect, it } from 'vitest'
import { archive, measure, type ArchiveException } from './archive'
import { cached } from './chunks'
import { shown } from './path'
import { matcher } from './pattern'
import { MemoryStore, type Tree } from './testing'

const noStep = () => undefined
const LETTERS: Tree = { 'offer.txt': 'an offer', 'reply.txt': 'a reply' }
const HOME: Tree = { home: { liv: { letters: LETTERS, plans: { 'harbour.dwg': ['piers', 'cranes', 'lamps'] } } } }

async function found(memory: MemoryStore, points: number[], wanted: string) {
  const hits: string[] = []
  const lost: string[] = []
  for await (const { path, point } of memory.store.search(points, matcher(wanted), noStep, (folder) => lost.push(shown(folder)))) hits.push(`${shown(path)} in ${point}`)
  return { hits, lost }
}

/** The archive's bytes as text: small files are in it as they are. */
async function archived(memory: MemoryStore, paths: string[]) {
  const exceptions: ArchiveException[] = []
  const zip = await new Response(archive(memory.store, 1, paths, () => undefined, (one) => exceptions.push(one))).text()
  return { zip, exceptions }
}

describe('an unlocked store', () => {
  it('lists folders, finds entries, and says what is not there', async () => {
    const memory = new MemoryStore()
    await memory.point(1, HOME)
    const names = (await memory.store.list(1, '/home/liv', noStep)).map((entry) => new TextDecoder().decode(entry.name))
    expect(names).toEqual(['letters', 'plans'])
    await expect(memory.store.entryAt(1, '/home/tove')).rejects.toThrow('There is no ‘/home/tove’')
    await expect(memory.store.list(1, '/home/liv/letters/offer.txt', noStep)).rejects.toThrow('is not a folder')
  })

  it('reads a part of a file, and only the chunks that hold it', async () => {
    const memory = new MemoryStore()
    await memory.point(1, HOME)
    const entry = await memory.store.entryAt(1, '/home/liv/plans/harbour.dwg')
    if (!entry) throw new Error('it is there')
    memory.asked.length = 0
    const pieces: string[] = []
    for await (const piece of memory.store.bytes(entry, 3, 7)) pieces.push(new TextDecoder().decode(piece))
    expect([pieces, memory.asked.flat().length]).toEqual([['rs', 'cr'], 2])
  })

  it('searches all points, tells each path once with its newest point, and reads no unchanged page twice', async () => {
    const memory = new MemoryStore()
    await memory.point(1, { home: { liv: { letters: { ...LETTERS, 'old offer.txt': 'gone since' } } } })
    await memory.point(2, HOME)
    expect(await found(memory, [2, 1], 'OFFER')).toEqual({ hits: ['/home/liv/letters/offer.txt in 2', '/home/liv/letters/old offer.txt in 1'], lost: [] })
    expect((await found(memory, [2, 1], '*.dwg')).hits).toEqual(['/home/liv/plans/harbour.dwg in 2'])
    await memory.point(3, HOME)
    memory.asked.length = 0
    await found(memory, [3, 2], 'nothing')
    expect(memory.asked.flat()).toHaveLength(new Set(memory.asked.flat()).size)
  })

  it('names the folder whose listing is lost, and finds everything else', async () => {
    const memory = new MemoryStore()
    await memory.point(1, HOME)
    await memory.loseListing(LETTERS)
    expect(await found(memory, [1], 'a')).toEqual({ hits: ['/home/liv/plans in 1', '/home/liv/plans/harbour.dwg in 1'], lost: ['/home/liv/letters'] })
  })

  it('tells versions apart by their content, with the points that have each', async () => {
    const memory = new MemoryStore()
    for (const [point, text] of [[1, 'draft'], [2, 'draft'], [3, 'final']] as const) await memory.point(point, { 'plan.txt': text })
    await memory.point(4, {})
    const versions = await memory.store.versions([4, 3, 2, 1], '/plan.txt', noStep)
    expect(versions.map((version) => version.points)).toEqual([[3], [2, 1]])
  })
})

describe('an archive', () => {
  it('holds a selection with its folders, and what it amounts to is known before', async () => {
    const memory = new MemoryStore()
    await memory.point(1, HOME)
    expect(await measure(memory.store, 1, ['/home/liv/letters', '/home/liv/plans'], noStep)).toEqual({ files: 3, bytes: 31 })
    const { zip, exceptions } = await archived(memory, ['/home/liv/letters', '/home/liv/plans'])
    for (const part of ['letters/offer.txt', 'an offer', 'plans/harbour.dwg', 'pierscraneslamps']) expect(zip).toContain(part)
    expect([exceptions, zip.includes('home/')]).toEqual([[], false])
  })

  it('loses what a lost chunk held and nothing else, and says so inside', async () => {
    const memory = new MemoryStore()
    await memory.point(1, HOME)
    memory.lose('an offer')
    const { zip, exceptions } = await archived(memory, ['/home/liv'])
    expect(exceptions.map(({ path }) => shown(path))).toEqual(['/home/liv/letters/offer.txt'])
    for (const part of ['a reply', 'pierscraneslamps', 'not restored exactly.txt', '/home/liv/letters/offer.txt: a chunk is damaged']) expect(zip).toContain(part)
  })

  it('keeps the length of a long file of which a piece is lost', async () => {
    const memory = new MemoryStore()
    const long = Array.from({ length: 80 }, (_, i) => `${i}`.padStart(4096, '.'))
    await memory.point(1, { 'scan.tif': long })
    memory.lose(long[70] ?? '')
    const { zip, exceptions } = await archived(memory, ['/scan.tif'])
    expect(exceptions.map(({ why }) => why)).toEqual([expect.stringContaining(`the last ${16 * 4096} bytes are zeros`)])
    expect(zip).toContain(`${long[63]}${'\0'.repeat(16 * 4096)}`)
  })
})

describe('what is kept in memory', () => {
  it('is what was read last, and not more than allowed', async () => {
    const memory = new MemoryStore()
    await memory.point(1, { a: 'x'.repeat(60), b: 'y'.repeat(60), c: 'z'.repeat(60) })
    const names = (await memory.store.list(1, '', noStep)).flatMap((entry) => entry.content?.parts[0]?.name ?? [])
    const source = cached(memory, 130)
    const readAgain = async (which: number[]) => {
      memory.asked.length = 0
      for (const i of which) await source.get(names.slice(i, i + 1))
      return memory.asked.flat().length
    }
    expect(await readAgain([0, 1, 0, 1])).toBe(2)
    expect(await readAgain([2, 1])).toBe(1)
    expect(await readAgain([0])).toBe(1)
  })
})
