/** Reads an image store in the browser. Secrets and keys come in here and do not go out. */
import { init } from '@bokuweb/zstd-wasm'
import { ProblemError } from '../api/problem'
import { archive, measure } from '../image/archive'
import { compare, fromHex, toBase64, type Bytes } from '../image/bytes'
import { fetched } from '../image/chunks'
import { ImageError, isLoss } from '../image/errors'
import { storeKeys, type StoreKeys } from '../image/keys'
import { lengthOf, type Entry } from '../image/listing'
import { below, pathBytes, rawName, rawPath, shown, type RawPath } from '../image/path'
import { sealOrder } from '../image/order'
import { matcher } from '../image/pattern'
import { openPoint } from '../image/point'
import { unlock } from '../image/slots'
import { gathered, UnlockedStore, type Step } from '../image/store'
import { preview } from './preview'
import type { Failure, Hit, NotExact, Question, Questions, Reply, Request, SaveProgress, ShownEntry } from './protocol'
import { fetchChunks, fetchPoint, fetchSlots } from './service'

class Cancelled extends Error {}

let unlocked: UnlockedStore | undefined
let keys: StoreKeys | undefined
/** An order is good for so long, in milliseconds: seven days. */
const ORDER_FOR = 7 * 24 * 3_600_000
const cancelled = new Set<number>()
/** Bytes that are written at once: each write goes to another process and back. */
const WRITTEN = 2 << 20
/** How often progress is told, in milliseconds. */
const TELL_EVERY = 200

const locked = () => new ImageError('secret', 'The image store is locked.')
const store = (): UnlockedStore => {
  if (!unlocked) throw locked()
  return unlocked
}

type Answering = { [Q in Question]: (given: Questions[Q]['with'], step: Step, tell: (told: Questions[Q]['tells']) => void) => Promise<Questions[Q]['answer']> }

const answers: Answering = {
  async unlock({ store: id, secret }) {
    const [slots] = await Promise.all([fetchSlots(id), init()])
    const bytes = fromHex(id)
    const opened = await storeKeys(bytes, await unlock(bytes, slots, secret))
    keys = opened
    unlocked = new UnlockedStore(
      async (sequence) => openPoint(opened, sequence, await fetchPoint(id, sequence)),
      fetched(opened, (names) => fetchChunks(id, names)),
    )
  },

  async open({ point }) {
    const { host, included, excluded } = await store().point(point)
    return { host, included: included.map(rawPath), excluded }
  },

  async list({ point, folder, from, most }, step) {
    const all = await listed(point, folder, step)
    return { entries: all.slice(from, from + most), total: all.length }
  },

  async search({ points, wanted, most }, step, tell) {
    const lost: RawPath[] = []
    const telling = new Telling<Hit>((hits) => tell(hits))
    let found = 0
    for await (const { path, entry, point } of store().search(points, matcher(wanted), step, (path) => lost.push(path))) {
      if (found === most) {
        telling.end()
        return { isCut: true, lost }
      }
      found += 1
      telling.add({ entry: shownEntry(path, entry), point })
    }
    telling.end()
    return { isCut: false, lost }
  },

  async versions({ points, path }, step) {
    const versions = await store().versions(points, path, step)
    return versions.map(({ entry, points: those }) => ({ entry: shownEntry(path, entry), points: those }))
  },

  async preview({ point, path }) {
    return naming(path, async () => preview(store(), await fileAt(point, path)))
  },

  async order({ point, paths, into, login, session }) {
    if (!keys) throw locked()
    const created = Date.now()
    const id = crypto.getRandomValues(new Uint8Array(16))
    const order = { id, point, paths: paths.map(pathBytes), into: into === undefined ? undefined : pathBytes(into), login, session, created, expires: created + ORDER_FOR }
    return toBase64(await sealOrder(keys, order))
  },

  async save({ point, paths, asArchive, to }, step, tell) {
    const total = asArchive ? await measure(store(), point, paths, step) : { files: 1, bytes: lengthOf(await fileAt(point, paths[0] ?? '')) }
    const done: SaveProgress = { files: 0, bytes: 0, filesTotal: total.files, bytesTotal: total.bytes }
    const notExact: NotExact[] = []
    const counted = counting(step, () => tell({ ...done }))
    const pieces = asArchive
      ? archive(store(), point, paths, (now) => Object.assign(done, now), (one) => notExact.push(one))
      : streamOf(gathered(store().bytes(await fileAt(point, paths[0] ?? '')), WRITTEN), (piece) => (done.bytes += piece.length))
    // What breaks off leaves nothing behind: what was written so far is given its name only when it is closed.
    const whole = (await to.createWritable()) as WritableStream<Bytes>
    await naming(asArchive ? undefined : paths[0], () => pieces.pipeThrough(counted).pipeTo(whole))
    Object.assign(done, total)
    return { done, notExact }
  },
}

/** Says which file it was that could not be read. */
async function naming<T>(path: RawPath | undefined, work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    if (path === undefined || !isLoss(error)) throw error
    throw new ImageError(error.trouble, `${shown(path)} cannot be read here: ${error.message}`)
  }
}

async function fileAt(point: number, path: RawPath): Promise<Entry> {
  const entry = await store().entryAt(point, path)
  if (!entry) throw new ImageError('no-such-path', 'This is the root folder.')
  return entry
}

/** The folder that was listed last: a long one is shown page by page. */
let latest: { key: string; entries: ShownEntry[] } | undefined

/** Folders first, then by name. */
async function listed(point: number, folder: RawPath, step: Step): Promise<ShownEntry[]> {
  const key = `${point} ${folder}`
  if (latest?.key === key) return latest.entries
  const entries = await store().list(point, folder, step)
  entries.sort((a, b) => Number(b.kind === 'folder') - Number(a.kind === 'folder') || compare(a.name, b.name))
  latest = { key, entries: entries.map((entry) => shownEntry(below(folder, entry.name), entry)) }
  return latest.entries
}

const shownEntry = (path: RawPath, entry: Entry): ShownEntry => ({
  path,
  kind: entry.kind,
  bytes: lengthOf(entry),
  modified: entry.modified,
  owner: entry.owner,
  mode: entry.mode,
  target: entry.target && shown(rawName(entry.target)),
  isPartial: entry.isPartial,
})

/** Tells some at a time. */
class Telling<T> {
  private some: T[] = []
  private last = 0

  constructor(private readonly tell: (some: T[]) => void) {}

  add(one: T) {
    this.some.push(one)
    if (Date.now() - this.last >= TELL_EVERY) this.end()
  }

  end() {
    if (this.some.length > 0) this.tell(this.some)
    this.some = []
    this.last = Date.now()
  }
}

/** Passes bytes on, tells now and then how far it is, and ends when it was cancelled. */
function counting(step: Step, tell: () => void): TransformStream<Bytes, Bytes> {
  let last = 0
  return new TransformStream({
    transform(piece, controller) {
      step()
      if (Date.now() - last >= TELL_EVERY) {
        last = Date.now()
        tell()
      }
      controller.enqueue(piece)
    },
  })
}

function streamOf(pieces: AsyncGenerator<Bytes>, each: (piece: Bytes) => void): ReadableStream<Bytes> {
  return new ReadableStream<Bytes>({
    async pull(controller) {
      const next = await pieces.next()
      if (next.done) {
        controller.close()
        return
      }
      each(next.value)
      controller.enqueue(next.value)
    },
    async cancel() {
      await pieces.return(undefined)
    },
  })
}

async function answer<Q extends Question>(id: number, question: Q, given: Questions[Q]['with']) {
  const reply = (message: Reply) => self.postMessage(message)
  const step = () => {
    if (cancelled.has(id)) throw new Cancelled()
  }
  try {
    reply({ id, answer: await answers[question](given, step, (tells) => reply({ id, tells })) })
  } catch (error) {
    reply({ id, failure: failureOf(error) })
  } finally {
    cancelled.delete(id)
  }
}

function failureOf(error: unknown): Failure {
  if (error instanceof Cancelled) return { of: 'cancelled' }
  if (error instanceof ImageError) return { of: 'image', trouble: error.trouble, message: error.message }
  if (error instanceof ProblemError) return { of: 'service', problem: error.problem }
  return { of: 'browser', message: error instanceof Error ? error.message : String(error) }
}

self.onmessage = ({ data }: MessageEvent<Request>) => {
  if (data.ask === 'cancel') cancelled.add(data.id)
  else void answer(data.id, data.ask, data.with)
}
