/** Chunks out of a store: fetched sealed, opened and checked here. */
import { toHex, type Bytes } from './bytes'
import { openChunk } from './chunk'
import type { ChunkSource } from './content'
import { damaged, ImageError } from './errors'
import type { StoreKeys } from './keys'

/** A sealed chunk, or why there is none. */
export type Sealed = Bytes | 'missing' | 'damaged'
/** Brings sealed chunks, one for each name, in the same order. */
export type Fetch = (names: Bytes[]) => Promise<Sealed[]>

/** Chunks as they come. */
export function fetched(keys: StoreKeys, fetch: Fetch): ChunkSource {
  return {
    async get(names) {
      if (names.length === 0) return []
      const sealed = await fetch(names)
      return Promise.all(names.map((name, i) => opened(keys, name, sealed[i])))
    },
  }
}

function opened(keys: StoreKeys, name: Bytes, sealed: Sealed | undefined): Promise<Bytes> {
  if (sealed === undefined || sealed === 'missing') throw new ImageError('missing', 'a chunk is missing from the image store')
  if (sealed === 'damaged') throw damaged('a chunk', 'its stored bytes are not what was written')
  return openChunk(keys, name, sealed)
}

/** Keeps what was read last, up to so many bytes: the pages of listings are read again and again. */
export function cached(source: ChunkSource, most: number): ChunkSource {
  const kept = new Map<string, Bytes>()
  let bytes = 0
  const keep = (key: string, chunk: Bytes) => {
    kept.set(key, chunk)
    bytes += chunk.length
    for (const [oldest, one] of kept) {
      if (bytes <= most) break
      kept.delete(oldest)
      bytes -= one.length
    }
  }
  return {
    async get(names) {
      const keys = names.map(toHex)
      const found = keys.map((key) => {
        const chunk = kept.get(key)
        if (chunk && kept.delete(key)) kept.set(key, chunk)
        return chunk
      })
      const absent = names.filter((_, i) => !found[i])
      const read = await source.get(absent)
      let next = 0
      return keys.map((key, i) => {
        const before = found[i]
        if (before) return before
        const chunk = read[next++]
        if (!chunk) throw damaged('a chunk', 'it was not given')
        if (!kept.has(key)) keep(key, chunk)
        return chunk
      })
    },
  }
}
