/** Content references (§ 4): how trees and points refer to bytes in chunks. */
import type { Bytes } from './bytes'
import { readArray, readBytes, readCborSequence, readInteger } from './cbor'
import { MAX_CHUNK } from './chunk'
import { damaged } from './errors'

/** Gives chunks out of the store, opened and checked, in the order of their names. */
export interface ChunkSource {
  get(names: Bytes[]): Promise<Bytes[]>
}

/** A run of content bytes: in a chunk, by a page, or a hole, which reads as zeros. */
export interface Part {
  length: number
  name: Bytes | undefined
}

export interface Content {
  length: number
  /** 0: the parts are content; d: the parts are pages of depth d − 1. */
  depth: number
  parts: Part[]
}

const WHAT = 'a content reference'
const MAX_DEPTH = 4

export function readContent(value: unknown): Content {
  const [length, depth, parts, ...more] = readArray(WHAT, value)
  if (more.length > 0) throw damaged(WHAT, 'it has more than is known')
  const content = { length: readInteger(WHAT, length), depth: readInteger(WHAT, depth, 0, MAX_DEPTH), parts: readArray(WHAT, parts).map(readPart) }
  checkParts(content.parts, content.depth, content.length)
  return content
}

function readPart(value: unknown): Part {
  const [length, name] = readArray(WHAT, value)
  return { length: readInteger(WHAT, length), name: name === undefined || name === null ? undefined : readBytes(WHAT, name, 32) }
}

function checkParts(parts: Part[], depth: number, length: number) {
  let sum = 0
  for (const part of parts) {
    if (depth === 0 && part.name && part.length > MAX_CHUNK) throw damaged(WHAT, 'a chunk is longer than chunks are')
    sum += part.length
  }
  if (sum !== length) throw damaged(WHAT, 'its lengths do not add up')
}

/** The parts in a page to which a part of this depth and length refers. */
function partsOfPage(page: Bytes, depth: number, length: number): Part[] {
  const parts = readCborSequence('a page of a content reference', page).map(readPart)
  checkParts(parts, depth - 1, length)
  return parts
}

/** A part with the offset at which it begins. */
export interface PlacedPart {
  at: number
  part: Part
}

/** The parts of content that overlap a range, in order; only pages that lead to them are read. */
export async function* partsBetween(source: ChunkSource, content: Content, from = 0, to = content.length): AsyncGenerator<PlacedPart> {
  yield* between(source, content.parts, content.depth, 0, from, to)
}

async function* between(source: ChunkSource, parts: Part[], depth: number, begins: number, from: number, to: number): AsyncGenerator<PlacedPart> {
  let at = begins
  for (const part of parts) {
    const ends = at + part.length
    if (ends > from && at < to) {
      if (part.name && depth > 0) {
        const [page] = await source.get([part.name])
        if (!page) throw damaged(WHAT, 'a page was not given')
        yield* between(source, partsOfPage(page, depth, part.length), depth - 1, at, from, to)
      } else {
        yield { at, part }
      }
    }
    if (at >= to) return
    at = ends
  }
}

/** Chunks that are asked for at once, and bytes that they have together at most. */
const BATCH = { chunks: 64, bytes: 4 << 20 }
/** Requests that are under way while what came before is worked on. */
const AHEAD = 3
const ZEROS = new Uint8Array(MAX_CHUNK)

/** Bytes, or so many zeros of a hole. */
type Piece = Bytes | number

/** The bytes of content in order, a piece at a time: what is next is asked for while the one before is worked on. */
export async function* bytesBetween(source: ChunkSource, content: Content, from = 0, to = content.length): AsyncGenerator<Bytes> {
  const underway: Promise<Piece[]>[] = []
  const batches = batchesOf(partsBetween(source, content, from, to))
  let isDone = false
  const ask = async () => {
    const next = await batches.next()
    if (next.done) isDone = true
    else underway.push(piecesOf(source, next.value, from, to))
    // One that fails is noticed when its turn comes, and not as a failure that nobody waited for.
    underway.at(-1)?.catch(() => undefined)
  }
  while (!isDone && underway.length < AHEAD) await ask()
  for (let next = underway.shift(); next; next = underway.shift()) {
    const pieces = await next
    if (!isDone) await ask()
    for (const piece of pieces) {
      if (typeof piece === 'number') yield* zeros(piece)
      else yield piece
    }
  }
}

async function* batchesOf(parts: AsyncGenerator<PlacedPart>): AsyncGenerator<PlacedPart[]> {
  let batch: PlacedPart[] = []
  let bytes = 0
  for await (const placed of parts) {
    const length = placed.part.name ? placed.part.length : 0
    if (batch.length > 0 && (batch.length >= BATCH.chunks || bytes + length > BATCH.bytes)) {
      yield batch
      batch = []
      bytes = 0
    }
    batch.push(placed)
    bytes += length
  }
  if (batch.length > 0) yield batch
}

async function piecesOf(source: ChunkSource, batch: PlacedPart[], from: number, to: number): Promise<Piece[]> {
  const chunks = await source.get(batch.flatMap(({ part }) => part.name ?? []))
  let next = 0
  return batch.map(({ at, part }) => {
    const begin = Math.max(0, from - at)
    const end = Math.min(part.length, to - at)
    if (!part.name) return end - begin
    const chunk = chunks[next++]
    if (chunk?.length !== part.length) throw damaged(WHAT, 'a chunk has another length')
    return chunk.subarray(begin, end)
  })
}

/** A hole's zeros, in pieces that share their memory. */
function* zeros(length: number): Generator<Bytes> {
  for (let left = length; left > 0; left -= MAX_CHUNK) yield ZEROS.subarray(0, Math.min(left, MAX_CHUNK))
}
