/** Tree entries and the pages of a listing (§ 6). */
import { compare, type Bytes } from './bytes'
import { Fields, readCborSequence } from './cbor'
import { partsBetween, readContent, type ChunkSource, type Content } from './content'
import { damaged } from './errors'

const WHAT = 'a folder’s listing'
const KINDS = { 1: 'file', 2: 'folder', 3: 'link', 4: 'fifo', 5: 'character-device', 6: 'block-device', 7: 'socket' } as const
export type EntryKind = (typeof KINDS)[keyof typeof KINDS]

/** One name in a folder, with what a person is shown of it. */
export interface Entry {
  name: Bytes
  kind: EntryKind
  /** Permission bits. */
  mode: number
  /** Owner, by name where known. */
  owner: string
  /** When it was last modified, in Unix milliseconds. */
  modified: number
  /** The content of a file or a disk; the listing of a folder. */
  content: Content | undefined
  /** Where a link points. */
  target: Bytes | undefined
  /** Whether it was still changing when it was read, or could not be listed completely. */
  isPartial: boolean
}

export function readPage(page: Bytes): Entry[] {
  return readCborSequence(WHAT, page).map(readEntry)
}

function readEntry(value: unknown): Entry {
  const fields = new Fields(WHAT, value)
  const name = fields.bytes(0)
  if (!isName(name)) throw damaged(WHAT, 'it holds a name that no file can have')
  const kind = KINDS[fields.integer(1, 1, 7) as keyof typeof KINDS]
  const seconds = fields.integer(7, -8.64e12, 8.64e12)
  const content = fields.has(9) ? readContent(fields.value(9)) : undefined
  if ((kind === 'file' || kind === 'folder') !== (content !== undefined) && kind !== 'block-device') throw damaged(WHAT, 'content is missing or not expected')
  return {
    name,
    kind,
    mode: fields.integer(2, 0, 0o7777),
    owner: fields.has(5) ? fields.text(5) : String(fields.integer(3, 0, 0xffff_ffff)),
    modified: seconds * 1000 + Math.floor(fields.integer(8, 0, 999_999_999) / 1e6),
    content,
    target: fields.has(10) ? fields.bytes(10) : undefined,
    isPartial: fields.has(14) && fields.integer(14, 0, 3) !== 0,
  }
}

/** Any bytes but a slash and NUL; nothing that would lead elsewhere. */
function isName(name: Bytes): boolean {
  const dots = name.length <= 2 && name.every((byte) => byte === 0x2e)
  return name.length > 0 && !dots && !name.includes(0x2f) && !name.includes(0)
}

/** Pages that are asked for at once. */
const PAGES = 32

/** The entries of a listing, some pages at a time, in order of their names. */
export async function* readListing(source: ChunkSource, listing: Content): AsyncGenerator<Entry[]> {
  let last: Bytes | undefined
  for await (const names of pageNames(source, listing)) {
    for (const page of await source.get(names)) {
      const entries = readPage(page)
      for (const entry of entries) {
        if (last && compare(last, entry.name) >= 0) throw damaged(WHAT, 'its names are not in order')
        last = entry.name
      }
      yield entries
    }
  }
}

/** The names of a listing's pages, some at a time. */
export async function* pageNames(source: ChunkSource, listing: Content): AsyncGenerator<Bytes[]> {
  let names: Bytes[] = []
  for await (const { part } of partsBetween(source, listing)) {
    if (!part.name) throw damaged(WHAT, 'it has a hole')
    names.push(part.name)
    if (names.length === PAGES) {
      yield names
      names = []
    }
  }
  if (names.length > 0) yield names
}

/** Bytes of content that a person would count; a folder has none of its own. */
export const lengthOf = (entry: Entry): number => (entry.kind === 'folder' ? 0 : (entry.content?.length ?? 0))
