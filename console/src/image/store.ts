/** An unlocked image store: its points, their folders and files. */
import { concat, same, toHex, type Bytes } from './bytes'
import { cached } from './chunks'
import { bytesBetween, type ChunkSource, type Content } from './content'
import { ImageError, isLoss } from './errors'
import { lengthOf, pageNames, readListing, readPage, type Entry } from './listing'
import { below, namesOf, shown, shownName, type RawPath } from './path'
import type { Matcher } from './pattern'
import type { PointBody } from './point'

/** Pages of listings that are kept, in bytes. */
const KEPT = 24 << 20

/** Pages that are asked for together before their turn. */
const MOST_WARMED = 64

/** Brings a point, opened. */
export type OpenPoint = (sequence: number) => Promise<PointBody>

/** An entry, and where it is. */
export interface Found {
  path: RawPath
  entry: Entry
}

/** A version of a file, and the points that have it, of those that were looked at. */
export interface Version {
  entry: Entry
  points: number[]
}

/** Asked between one step of long work and the next; throws when it was cancelled. */
export type Step = () => void

export class UnlockedStore {
  private readonly points = new Map<number, Promise<PointBody>>()
  private readonly pages: ChunkSource

  constructor(
    private readonly open: OpenPoint,
    private readonly contents: ChunkSource,
  ) {
    this.pages = cached(contents, KEPT)
  }

  /** What a point says of itself. */
  point(sequence: number): Promise<PointBody> {
    const known = this.points.get(sequence)
    if (known) return known
    const opening = this.open(sequence)
    this.points.set(sequence, opening)
    opening.catch(() => this.points.delete(sequence))
    return opening
  }

  /** The entry at a path; `undefined` for the root, which has none. */
  async entryAt(sequence: number, path: RawPath): Promise<Entry | undefined> {
    const { root } = await this.point(sequence)
    let listing: Content | undefined = root
    let entry: Entry | undefined
    for (const name of namesOf(path)) {
      entry = listing && (await this.named(listing, name))
      if (!entry) throw new ImageError('no-such-path', `There is no ‘${shown(path)}’ in this recovery point.`)
      listing = entry.kind === 'folder' ? entry.content : undefined
    }
    return entry
  }

  private async named(listing: Content, name: Bytes): Promise<Entry | undefined> {
    for await (const entries of readListing(this.pages, listing)) {
      const found = entries.find((entry) => same(entry.name, name))
      if (found) return found
    }
    return undefined
  }

  /** What is in a folder. */
  async list(sequence: number, folder: RawPath, step: Step): Promise<Entry[]> {
    const all: Entry[] = []
    for await (const entries of readListing(this.pages, await this.listingOf(sequence, folder))) {
      step()
      for (const entry of entries) all.push(entry)
    }
    return all
  }

  private async listingOf(sequence: number, folder: RawPath): Promise<Content> {
    const entry = await this.entryAt(sequence, folder)
    if (!entry) return (await this.point(sequence)).root
    if (entry.kind !== 'folder' || !entry.content) throw new ImageError('no-such-path', `‘${shown(folder)}’ is not a folder in this recovery point.`)
    return entry.content
  }

  /** Everything below a path, folders before what is in them; the path itself first. Listings that are lost are given to `lost`. */
  async *walk(sequence: number, path: RawPath, lost: (path: RawPath, error: ImageError) => void): AsyncGenerator<Found> {
    const entry = await this.entryAt(sequence, path)
    if (entry) yield { path, entry }
    if (entry && entry.kind !== 'folder') return
    yield* this.walkListing(await this.listingOf(sequence, path), path, lost)
  }

  private async *walkListing(listing: Content, folder: RawPath, lost: (path: RawPath, error: ImageError) => void): AsyncGenerator<Found> {
    try {
      for await (const entries of readListing(this.pages, listing)) {
        await this.warm(entries.flatMap(listingIn))
        for (const entry of entries) {
          const path = below(folder, entry.name)
          yield { path, entry }
          if (entry.kind === 'folder' && entry.content) yield* this.walkListing(entry.content, path, lost)
        }
      }
    } catch (error) {
      if (!isLoss(error)) throw error
      lost(folder, error)
    }
  }

  /**
   * What has a name that matches, in any of the points, once, from the first of the points that has it. Pages that were seen at the same place
   * before are not read again, so that looking through many points costs what differs between them.
   */
  async *search(sequences: number[], matches: Matcher, step: Step, lost: (path: RawPath) => void): AsyncGenerator<Found & { point: number }> {
    const told = new Set<RawPath>()
    for await (const found of this.everything(sequences, step, lost)) {
      if (!matches(shownName(found.path)) || told.has(found.path)) continue
      told.add(found.path)
      yield found
    }
  }

  /** Asks for the first pages of listings together: they are needed one after another. Which of them is lost is told when its turn comes. */
  private async warm(listings: Content[]): Promise<void> {
    const names = listings.flatMap(({ depth, parts }) => (depth === 0 ? parts.flatMap(({ name }) => name ?? []) : []))
    await this.pages.get(names.slice(0, MOST_WARMED)).catch((error: unknown) => {
      if (!isLoss(error)) throw error
    })
  }

  private async *everything(sequences: number[], step: Step, lost: (path: RawPath) => void): AsyncGenerator<Found & { point: number }> {
    const seen = new Set<string>()
    for (const point of sequences) {
      const { root } = await this.point(point)
      const folders: { folder: RawPath; listing: Content }[] = [{ folder: '', listing: root }]
      for (let next = folders.pop(); next; next = folders.pop()) {
        const { folder, listing } = next
        try {
          for await (const names of pageNames(this.pages, listing)) {
            step()
            const places = names.map((name) => `${folder}\0${toHex(name)}`)
            const fresh = names.filter((_, i) => !seen.has(places[i] ?? ''))
            const inside: typeof folders = []
            for (const entry of (await this.pages.get(fresh)).flatMap(readPage)) {
              const path = below(folder, entry.name)
              yield { path, entry, point }
              for (const listing of listingIn(entry)) inside.push({ folder: path, listing })
            }
            for (const place of places) seen.add(place)
            const unseen = inside.filter(({ folder: at, listing: { parts } }) => parts.some(({ name }) => name && !seen.has(`${at}\0${toHex(name)}`)))
            await this.warm(unseen.map((one) => one.listing))
            folders.push(...unseen)
          }
        } catch (error) {
          if (!isLoss(error)) throw error
          lost(folder)
        }
      }
    }
  }

  /** The versions of a path: each distinct state with the points that have it, in the order of the points. */
  async versions(sequences: number[], path: RawPath, step: Step): Promise<Version[]> {
    const versions: Version[] = []
    for (const point of sequences) {
      step()
      const entry = await this.entryIfThere(point, path)
      if (!entry) continue
      const known = versions.find((version) => isSameState(version.entry, entry))
      if (known) known.points.push(point)
      else versions.push({ entry, points: [point] })
    }
    return versions
  }

  private async entryIfThere(point: number, path: RawPath): Promise<Entry | undefined> {
    try {
      return await this.entryAt(point, path)
    } catch (error) {
      if (error instanceof ImageError && error.trouble === 'no-such-path') return undefined
      throw error
    }
  }

  /** The bytes of a file, a piece at a time. */
  bytes(entry: Entry, from = 0, to = lengthOf(entry)): AsyncGenerator<Bytes> {
    if (entry.kind === 'folder' || !entry.content) throw new ImageError('no-such-path', 'This has no content of its own.')
    return bytesBetween(this.contents, entry.content, from, to)
  }

  /** The contents of small files, asked for together. */
  async small(entries: Entry[]): Promise<Bytes[]> {
    const names = entries.flatMap((entry) => entry.content?.parts.flatMap((part) => part.name ?? []) ?? [])
    const chunks = await this.contents.get(names)
    let next = 0
    return entries.map((entry) => {
      const content = new Uint8Array(lengthOf(entry))
      let at = 0
      for (const part of entry.content?.parts ?? []) {
        const chunk = part.name && chunks[next++]
        if (chunk && chunk.length !== part.length) throw new ImageError('damaged', 'a chunk has another length than its file says')
        if (chunk) content.set(chunk, at)
        at += part.length
      }
      return content
    })
  }
}

/** The same bytes in pieces of about this length. */
export async function* gathered(pieces: AsyncGenerator<Bytes>, length: number): AsyncGenerator<Bytes> {
  let some: Bytes[] = []
  let bytes = 0
  for await (const piece of pieces) {
    some.push(piece)
    bytes += piece.length
    if (bytes >= length) {
      yield concat(...some)
      some = []
      bytes = 0
    }
  }
  if (bytes > 0) yield concat(...some)
}

const listingIn = (entry: Entry): Content[] => (entry.kind === 'folder' && entry.content ? [entry.content] : [])

/** Whether nothing that a person would notice differs: kind, time, length and content. */
function isSameState(a: Entry, b: Entry): boolean {
  if (a.kind !== b.kind || a.modified !== b.modified || lengthOf(a) !== lengthOf(b)) return false
  const parts = a.content?.parts ?? []
  return parts.length === (b.content?.parts ?? []).length && parts.every((part, i) => isSamePart(part.name, b.content?.parts[i]?.name))
}

const isSamePart = (a: Bytes | undefined, b: Bytes | undefined) => a === b || (a !== undefined && b !== undefined && same(a, b))
