/** What can be shown of a file without opening it: text, and images that every browser draws. */
import { concat, type Bytes } from '../image/bytes'
import { lengthOf, type Entry } from '../image/listing'
import type { UnlockedStore } from '../image/store'
import type { Preview } from './protocol'

const MOST_TEXT = 256 << 10
const MOST_IMAGE = 24 << 20

const IMAGES: { type: string; begins: number[]; at?: number }[] = [
  { type: 'image/png', begins: [0x89, 0x50, 0x4e, 0x47] },
  { type: 'image/jpeg', begins: [0xff, 0xd8, 0xff] },
  { type: 'image/gif', begins: [0x47, 0x49, 0x46, 0x38] },
  { type: 'image/webp', begins: [0x57, 0x45, 0x42, 0x50], at: 8 },
]

export async function preview(store: UnlockedStore, entry: Entry): Promise<Preview> {
  if (entry.kind !== 'file') return { kind: 'none', why: 'Only files have a preview.' }
  const length = lengthOf(entry)
  if (length === 0) return { kind: 'none', why: 'The file is empty.' }
  const begin = await collect(store.bytes(entry, 0, Math.min(length, MOST_TEXT)))
  const type = imageType(begin)
  if (type) {
    if (length > MOST_IMAGE) return { kind: 'none', why: 'The image is too large for a preview: download it.' }
    return { kind: 'image', type, bytes: await collect(store.bytes(entry)) }
  }
  const text = textOf(begin, begin.length < length)
  return text === undefined ? { kind: 'none', why: 'Neither text nor an image: download it to open it.' } : { kind: 'text', text, isCut: begin.length < length }
}

export function imageType(begin: Uint8Array): string | undefined {
  return IMAGES.find(({ begins, at = 0 }) => begins.every((byte, i) => begin[at + i] === byte))?.type
}

/** UTF-8 as text; `undefined` when it is none. A character that was cut at the end is left out. */
export function textOf(bytes: Uint8Array, isCut: boolean): string | undefined {
  if (bytes.includes(0)) return undefined
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes, { stream: isCut })
  } catch {
    return undefined
  }
}

async function collect(pieces: AsyncGenerator<Bytes>): Promise<Bytes> {
  const all: Bytes[] = []
  for await (const piece of pieces) all.push(piece)
  return concat(...all)
}
