/** A selection as a zip archive, a piece at a time: nothing of it is held whole. */
import { makeZip } from 'client-zip'
import { utf8, type Bytes } from './bytes'
import { isLoss } from './errors'
import { lengthOf, type Entry } from './listing'
import { parentOf, shown, within, type RawPath } from './path'
import type { Found, Step, UnlockedStore } from './store'

/** Files up to so many bytes are asked for together, up to so many bytes and files. */
const SMALL = 256 << 10
const TOGETHER = { bytes: 4 << 20, files: 256 }

/** What an archive could not hold, or not exactly. */
export interface ArchiveException {
  path: RawPath
  why: string
}

export interface Progress {
  files: number
  bytes: number
}

type Member = { name: Bytes; lastModified: Date } & ({ input: Bytes; size: number } | { input: ReadableStream<Bytes>; size: number } | { input?: never })

/** What a selection amounts to: files and their bytes. */
export async function measure(store: UnlockedStore, point: number, paths: RawPath[], step: Step): Promise<Progress> {
  const total = { files: 0, bytes: 0 }
  for (const path of paths) {
    for await (const { entry } of store.walk(point, path, () => undefined)) {
      step()
      if (entry.kind === 'file') {
        total.files += 1
        total.bytes += lengthOf(entry)
      }
    }
  }
  return total
}

/** The archive's bytes. What it could not hold is in a text file at its end, too. */
export function archive(
  store: UnlockedStore,
  point: number,
  paths: RawPath[],
  progress: (done: Progress) => void,
  exception: (one: ArchiveException) => void,
): ReadableStream<Bytes> {
  return makeZip(members(store, point, paths, progress, exception), { buffersAreUTF8: undefined }) as ReadableStream<Bytes>
}

async function* members(
  store: UnlockedStore,
  point: number,
  paths: RawPath[],
  progress: (done: Progress) => void,
  tell: (one: ArchiveException) => void,
): AsyncGenerator<Member> {
  const done = { files: 0, bytes: 0 }
  const exceptions: ArchiveException[] = []
  const exception = (path: RawPath, why: string) => {
    exceptions.push({ path, why })
    tell({ path, why })
  }
  for (const path of paths) {
    const from = parentOf(path)
    for await (const together of grouped(store.walk(point, path, (lost, error) => exception(lost, error.message)))) {
      yield* membersOf(store, from, together, exception)
      for (const { entry } of together) {
        if (entry.kind !== 'file') continue
        done.files += 1
        done.bytes += lengthOf(entry)
      }
      progress({ ...done })
    }
  }
  if (exceptions.length > 0) yield report(exceptions)
}

const isSmall = (entry: Entry) => entry.kind === 'file' && lengthOf(entry) <= SMALL && entry.content?.depth === 0

/** Small files side by side, everything else by itself. */
async function* grouped(found: AsyncGenerator<Found>): AsyncGenerator<Found[]> {
  let group: Found[] = []
  let bytes = 0
  for await (const one of found) {
    const small = isSmall(one.entry)
    if (group.length > 0 && (!small || bytes + lengthOf(one.entry) > TOGETHER.bytes || group.length >= TOGETHER.files)) {
      yield group
      group = []
      bytes = 0
    }
    group.push(one)
    bytes += lengthOf(one.entry)
    if (!small) {
      yield group
      group = []
      bytes = 0
    }
  }
  if (group.length > 0) yield group
}

async function* membersOf(store: UnlockedStore, from: RawPath, group: Found[], exception: (path: RawPath, why: string) => void): AsyncGenerator<Member> {
  const [first] = group
  if (!first) return
  if (isSmall(first.entry)) {
    yield* smallMembers(store, from, group, exception)
    return
  }
  const { path, entry } = first
  const lastModified = new Date(entry.modified)
  if (entry.kind === 'folder') yield { name: new Uint8Array([...within(from, path), 0x2f]), lastModified }
  else if (entry.kind === 'file') yield { name: within(from, path), lastModified, input: wholeLength(store, first, exception), size: lengthOf(entry) }
  else exception(path, `a ${entry.kind} is not kept in a zip archive`)
}

async function* smallMembers(store: UnlockedStore, from: RawPath, group: Found[], exception: (path: RawPath, why: string) => void): AsyncGenerator<Member> {
  for (const [one, input] of await contentsOf(store, group, exception)) {
    yield { name: within(from, one.path), lastModified: new Date(one.entry.modified), input, size: input.length }
  }
}

/** The contents of small files; where a piece is lost, each file is read by itself, so that one costs no other. */
async function contentsOf(store: UnlockedStore, group: Found[], exception: (path: RawPath, why: string) => void): Promise<[Found, Bytes][]> {
  try {
    const contents = await store.small(group.map(({ entry }) => entry))
    return group.map((one, i) => [one, contents[i] ?? new Uint8Array()])
  } catch (error) {
    if (!isLoss(error)) throw error
    const [first, ...more] = group
    if (first && more.length === 0) {
      exception(first.path, error.message)
      return []
    }
    const apart: [Found, Bytes][] = []
    for (const one of group) apart.push(...(await contentsOf(store, [one], exception)))
    return apart
  }
}

/** A file's bytes. Behind a piece that is lost come zeros: its length was given already. */
function wholeLength(store: UnlockedStore, { path, entry }: Found, exception: (path: RawPath, why: string) => void): ReadableStream<Bytes> {
  const pieces = store.bytes(entry)
  let left = lengthOf(entry)
  let isLost = false
  return new ReadableStream<Bytes>({
    async pull(controller) {
      const piece = isLost ? undefined : await pieces.next().catch((error: unknown) => lost(error))
      if (piece && !piece.done) {
        left -= piece.value.length
        controller.enqueue(piece.value)
      } else if (left > 0) {
        const zeros = new Uint8Array(Math.min(left, 1 << 20))
        left -= zeros.length
        controller.enqueue(zeros)
      } else {
        controller.close()
      }
    },
    async cancel() {
      await pieces.return(undefined)
    },
  })

  function lost(error: unknown): undefined {
    if (!isLoss(error)) throw error
    isLost = true
    exception(path, `the last ${left} bytes are zeros: ${error.message}`)
  }
}

function report(exceptions: ArchiveException[]): Member {
  const lines = exceptions.map(({ path, why }) => `${shown(path)}: ${why}`)
  const input = utf8(`These could not be restored exactly:\r\n\r\n${lines.join('\r\n')}\r\n`)
  return { name: utf8('not restored exactly.txt'), lastModified: new Date(), input, size: input.length }
}
