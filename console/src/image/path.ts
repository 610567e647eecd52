/** Paths in a recovery point: names are bytes, whatever they mean, so that none is ever taken for another. */
import { concat, type Bytes } from './bytes'

/** A path as text with one character for each byte: it can be a key, be sent to a worker, and be turned back. `''` is the root. */
export type RawPath = string

export const rawName = (name: Uint8Array): string => Array.from(name, (byte) => String.fromCharCode(byte)).join('')

export const below = (folder: RawPath, name: Uint8Array): RawPath => `${folder}/${rawName(name)}`

export const rawPath = (path: Uint8Array): RawPath => rawName(path).replace(/\/+$/, '')

/** The names that a path leads by. */
export const namesOf = (path: RawPath): Bytes[] =>
  path
    .split('/')
    .filter((name) => name !== '')
    .map((name) => Uint8Array.from(name, (symbol) => symbol.charCodeAt(0)))

export const parentOf = (path: RawPath): RawPath => path.slice(0, Math.max(0, path.lastIndexOf('/')))

const decoder = new TextDecoder()

/** As a person reads it. What is no text is shown by replacement characters. */
export function shown(path: RawPath): string {
  const bytes = Uint8Array.from(path, (symbol) => symbol.charCodeAt(0))
  return decoder.decode(bytes) || '/'
}

export const shownName = (path: RawPath): string => shown(path.slice(path.lastIndexOf('/') + 1))

/** The bytes of a path relative to a folder: as it is named in an archive. */
export const within = (folder: RawPath, path: RawPath): Bytes =>
  concat(Uint8Array.from(path.slice(folder.length).replace(/^\//, ''), (symbol) => symbol.charCodeAt(0)))
