/** Paths in a recovery point: names are bytes, whatever they mean, so that none is ever taken for another. */
import { concat, type Bytes } from './bytes'

/** A path as text with one character for each byte: it can be a key, be sent to a worker, and be turned back. `''` is the root. */
export type RawPath = string

export const rawName = (name: Uint8Array): string => Array.from(name, (byte) => String.fromCharCode(byte)).join('')

export const below = (folder: RawPath, name: Uint8Array): RawPath => `${folder}/${rawName(name)}`

export const rawPath = (path: Uint8Array): RawPath => rawName(path).replace(/\/+$/, '')

const bytesOf = (text: string): Bytes => Uint8Array.from(text, (symbol) => symbol.charCodeAt(0))

/** The bytes of a path. */
export const pathBytes = (path: RawPath): Bytes => bytesOf(path || '/')

/** A path as a person types it. Whether there is such a one is not known. */
export const typedPath = (text: string): RawPath => rawPath(new TextEncoder().encode(text.trim()))

/** The names that a path leads by. */
export const namesOf = (path: RawPath): Bytes[] =>
  path
    .split('/')
    .filter((name) => name !== '')
    .map(bytesOf)

export const parentOf = (path: RawPath): RawPath => path.slice(0, Math.max(0, path.lastIndexOf('/')))

const decoder = new TextDecoder()

/** As a person reads it. What is no text is shown by replacement characters. */
export function shown(path: RawPath): string {
  return decoder.decode(bytesOf(path)) || '/'
}

export const shownName = (path: RawPath): string => shown(path.slice(path.lastIndexOf('/') + 1))

/** The bytes of a path relative to a folder: as it is named in an archive. */
export const within = (folder: RawPath, path: RawPath): Bytes =>
  concat(bytesOf(path.slice(folder.length).replace(/^\//, '')))
