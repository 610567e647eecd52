/**
 * What the page asks the worker, and what that answers. The worker holds the keys of an unlocked store and gives none of them away; it lives as
 * long as the page that shows the store.
 */
import type { Problem } from '../api/types'
import type { ImageTrouble } from '../image/errors'
import type { EntryKind } from '../image/listing'
import type { RawPath } from '../image/path'
import type { Secret } from '../image/slots'

/** What a person is shown of an entry. */
export interface ShownEntry {
  path: RawPath
  kind: EntryKind
  bytes: number
  /** Unix milliseconds. */
  modified: number
  owner: string
  mode: number
  target?: string
  isPartial: boolean
}

export interface Hit {
  entry: ShownEntry
  /** The newest point that has it, of those that were searched. */
  point: number
}

export interface ShownVersion {
  entry: ShownEntry
  points: number[]
}

export type Preview = { kind: 'text'; text: string; isCut: boolean } | { kind: 'image'; type: string; bytes: Uint8Array<ArrayBuffer> } | { kind: 'none'; why: string }

export interface SaveProgress {
  files: number
  bytes: number
  filesTotal: number
  bytesTotal: number
}

/** Something that could not be restored exactly. */
export interface NotExact {
  path: RawPath
  why: string
}

/** Each question with what goes with it, what is told meanwhile, and the answer. */
export interface Questions {
  unlock: { with: { store: string; secret: Secret }; tells: never; answer: undefined }
  open: { with: { point: number }; tells: never; answer: { host: string; included: RawPath[]; excluded: string[] } }
  list: { with: { point: number; folder: RawPath; from: number; most: number }; tells: never; answer: { entries: ShownEntry[]; total: number } }
  search: { with: { points: number[]; wanted: string; most: number }; tells: Hit[]; answer: { isCut: boolean; lost: RawPath[] } }
  versions: { with: { points: number[]; path: RawPath }; tells: never; answer: ShownVersion[] }
  preview: { with: { point: number; path: RawPath }; tells: never; answer: Preview }
  /** Seals an order to bring things back to their machine: base64. */
  order: { with: { point: number; paths: RawPath[]; into: RawPath | undefined; login: string; session: string }; tells: never; answer: string }
  /** Writes a file, or a selection as a zip archive, to where the person wants it. */
  save: {
    with: { point: number; paths: RawPath[]; asArchive: boolean; to: FileSystemFileHandle }
    tells: SaveProgress
    answer: { done: SaveProgress; notExact: NotExact[] }
  }
}

export type Question = keyof Questions

export type Request = { [Q in Question]: { id: number; ask: Q; with: Questions[Q]['with'] } }[Question] | { id: number; ask: 'cancel' }

/** Why something failed: something of the store, what the service said, or that it was cancelled. */
export type Failure = { of: 'image'; trouble: ImageTrouble; message: string } | { of: 'service'; problem: Problem } | { of: 'cancelled' } | { of: 'browser'; message: string }

export type Reply = { id: number; tells: unknown } | { id: number; answer: unknown } | { id: number; failure: Failure }
