/** Looking through an unlocked image store: a point, a folder of it, a file, a search, a download. */
import { computed, reactive, ref, shallowRef } from 'vue'
import { answer, api, at } from '../api/client'
import type { Problem } from '../api/types'
import { isLoss } from '../image/errors'
import { parentOf, shownName, type RawPath } from '../image/path'
import type { Secret } from '../image/slots'
import { placeFor } from '../logic/saving'
import { CancelledError, ImageWorker, problemFrom, type Asked } from '../worker/client'
import type { Hit, NotExact, Preview, SaveProgress, ShownEntry, ShownVersion } from '../worker/protocol'
import { useBrowseRecord } from './useBrowseRecord'

/** Entries that are shown at first, and more each time. */
const MOST_SHOWN = 500
/** What a search finds at most. */
export const MOST_HITS = 500

export interface Saving {
  name: string
  started: string
  progress: SaveProgress
  cancel: () => void
}

export function useBrowsing(workstation: string, store: string) {
  const worker = new ImageWorker()
  const problem = ref<Problem>()
  const unlocked = ref(false)
  const cancelledBy = ref<string>()
  const point = ref<number>()
  const folder = ref<RawPath>('')
  /** What the point's backup included. */
  const included = shallowRef<RawPath[]>([])
  const entries = shallowRef<ShownEntry[]>([])
  const total = ref(0)
  const loading = ref(false)
  const selected = reactive(new Set<RawPath>())
  const file = shallowRef<ShownEntry>()
  const preview = shallowRef<Preview>()
  const versions = shallowRef<ShownVersion[]>()
  const found = shallowRef<{ wanted: string; hits: Hit[]; isDone: boolean; isCut: boolean; lost: RawPath[] }>()
  const saving = ref<Saving>()
  const saved = ref<{ name: string; done: SaveProgress; notExact: NotExact[] }>()
  let searching: Asked<unknown> | undefined
  let listing = 0

  const record = useBrowseRecord(workstation, (by) => {
    cancelledBy.value = by
    lock()
  })

  /** Does something and shows what went wrong; says whether it went well. */
  async function trying(work: () => Promise<void>): Promise<boolean> {
    problem.value = undefined
    try {
      await work()
      return true
    } catch (error) {
      if (!(error instanceof CancelledError)) problem.value = problemFrom(error)
      return false
    }
  }

  const unlock = (secret: Secret) =>
    trying(async () => {
      await worker.ask('unlock', { store, secret }).answer
      unlocked.value = true
    })

  /** Goes to a point; the folder stays if it is there as well. */
  const openPoint = (sequence: number) =>
    trying(async () => {
      loading.value = true
      try {
        const first = point.value === undefined
        const opened = await worker.ask('open', { point: sequence }).answer
        included.value = opened.included
        await record.begin(sequence)
        point.value = sequence
        close()
        if (first) folder.value = opened.included.length === 1 ? (opened.included[0] ?? '') : ''
        await listOrRise(folder.value)
      } finally {
        loading.value = false
      }
    })

  /** A folder that this point does not have gives way to the nearest one above. */
  async function listOrRise(path: RawPath): Promise<void> {
    for (let at = path; ; at = parentOf(at)) {
      try {
        await list(at, 0)
        return
      } catch (error) {
        if (at === '' || problemFrom(error).type !== 'urn:jetfrost:problem:no-such-path') throw error
      }
    }
  }

  async function list(path: RawPath, from: number): Promise<void> {
    if (point.value === undefined) return
    const asked = ++listing
    const shown = await worker.ask('list', { point: point.value, folder: path, from, most: MOST_SHOWN }).answer
    // Somebody has gone on to another point or folder: what is under its name must be in it.
    if (asked !== listing) return
    if (from === 0) selected.clear()
    folder.value = path
    entries.value = from === 0 ? shown.entries : [...entries.value, ...shown.entries]
    total.value = shown.total
  }

  const openFolder = (path: RawPath) =>
    trying(async () => {
      loading.value = true
      close()
      endSearch()
      await list(path, 0).finally(() => (loading.value = false))
    })

  const more = () => trying(() => list(folder.value, entries.value.length))

  /** Shows a file: what it is, a preview, and later its versions. */
  const openFile = (entry: ShownEntry) =>
    trying(async () => {
      if (point.value === undefined) return
      file.value = entry
      preview.value = versions.value = undefined
      await record.begin(point.value)
      const shown = await worker.ask('preview', { point: point.value, path: entry.path }).answer
      if (file.value?.path !== entry.path) return
      preview.value = shown
      if (shown.kind !== 'none') record.read({ files: 1, bytes: shown.kind === 'image' ? shown.bytes.length : new Blob([shown.text]).size })
    })

  const findVersions = (points: number[]) =>
    trying(async () => {
      const path = file.value?.path
      if (path === undefined) return
      const all = await worker.ask('versions', { points, path }).answer
      if (file.value?.path === path) versions.value = all
    })

  function close() {
    file.value = preview.value = versions.value = undefined
  }

  const search = (points: number[], wanted: string) =>
    trying(async () => {
      endSearch()
      close()
      found.value = { wanted, hits: [], isDone: false, isCut: false, lost: [] }
      const asked = worker.ask('search', { points, wanted, most: MOST_HITS }, (hits) => {
        if (found.value && searching === asked) found.value = { ...found.value, hits: [...found.value.hits, ...hits] }
      })
      searching = asked
      const { isCut, lost } = await asked.answer
      if (found.value && searching === asked) found.value = { ...found.value, isDone: true, isCut, lost }
    })

  function stopSearch() {
    searching?.cancel()
    searching = undefined
    if (found.value) found.value = { ...found.value, isDone: true }
  }

  function endSearch() {
    searching?.cancel()
    searching = undefined
    found.value = undefined
  }

  /** Downloads a file as it is, a folder or several things as a zip archive. */
  const save = (paths: RawPath[], asArchive: boolean, from = point.value) =>
    trying(async () => {
      const [first] = paths
      if (first === undefined || from === undefined || saving.value) return
      const name = nameOf(paths, asArchive, from)
      const place = await placeFor(name)
      if (!place) return
      saved.value = undefined
      await record.begin(from)
      const nothing = { files: 0, bytes: 0, filesTotal: 0, bytesTotal: 0 }
      const asked = worker.ask('save', { point: from, paths, asArchive, to: place.handle }, (progress) => {
        if (saving.value) saving.value = { ...saving.value, progress }
      })
      saving.value = { name, started: new Date().toISOString(), progress: nothing, cancel: asked.cancel }
      try {
        const { done, notExact } = await asked.answer
        record.read({ files: done.files, bytes: done.bytes, exceptions: notExact.length })
        await place.deliver()
        saved.value = { name, done, notExact }
      } catch (error) {
        if (isLoss(error)) record.read({ files: 0, bytes: 0, exceptions: 1 })
        throw error
      } finally {
        saving.value = undefined
      }
    })

  /** Asks the workstation's agent to restore something. */
  const order = (paths: RawPath[], from: number, into: RawPath | undefined) =>
    trying(async () => {
      const [who, sessions] = await Promise.all([answer(api.GET('/api/v1/sessions/current')), answer(api.GET('/api/v1/sessions'))])
      const session = sessions.items.find((one) => one.current)?.id ?? ''
      const sealed = await worker.ask('order', { point: from, paths, into, login: who.login, session }).answer
      await answer(api.POST('/api/v1/workstations/{id}/orders', { ...at({ id: workstation }), body: { sealed } }))
    })

  function nameOf(paths: RawPath[], asArchive: boolean, from: number): string {
    const [first = ''] = paths
    const name = (paths.length === 1 ? shownName(first) : shownName(folder.value)).replaceAll(/[\\/:*?"<>|]/g, '_')
    return asArchive ? `${name === '_' || name === '' ? 'selection' : name}, point ${from}.zip` : name
  }

  /** Forgets the keys and everything that was read. */
  function lock() {
    worker.close()
    endSearch()
    close()
    unlocked.value = false
    entries.value = []
    void record.end()
  }

  return {
    ...{ problem, unlocked, cancelledBy, point, included, folder, entries, total, loading, selected, file, preview, versions, found, saving, saved },
    hasMore: computed(() => entries.value.length < total.value),
    ...{ unlock, openPoint, openFolder, more, openFile, findVersions, close, search, stopSearch, endSearch, save, order, lock },
  }
}
