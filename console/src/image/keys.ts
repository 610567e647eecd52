/** What follows from a store key (§ 3). */
import { createHMAC, createSHA256 } from 'hash-wasm'
import type { Bytes } from './bytes'
import { expand } from './crypto'
import { hasher, HASH, type Hasher } from './hash'

export interface StoreKeys {
  store: Bytes
  /** Keyed BLAKE3: a chunk's name is that of its content. */
  name: Hasher
  /** The AES-256-GCM key of a chunk. */
  chunkKey(name: Bytes): Promise<CryptoKey>
  /** The AES-256-GCM key of point bodies. */
  point: Bytes
  /** The AES-256-GCM key of orders. */
  order: Bytes
}

export async function storeKeys(store: Bytes, key: Bytes): Promise<StoreKeys> {
  const subkey = (info: string) => expand(key, store, info)
  const ofChunk = await shortHkdf(await subkey('jetfrost v1 chunk seal'))
  const chunkKey = (name: Bytes) => crypto.subtle.importKey('raw', ofChunk(name), 'AES-GCM', false, ['decrypt'])
  return { store, name: await hasher(await subkey('jetfrost v1 chunk name')), chunkKey, point: await subkey('jetfrost v1 point seal'), order: await subkey('jetfrost v1 order seal') }
}

/**
 * HKDF-SHA-256 (RFC 5869) with an empty salt, for 32 bytes: one block. It is needed for every chunk, and WebCrypto's goes through another thread
 * each time.
 */
export async function shortHkdf(input: Bytes): Promise<(info: Bytes) => Bytes> {
  const extract = await createHMAC(createSHA256(), new Uint8Array(HASH))
  const state = await createHMAC(createSHA256(), extract.update(input).digest('binary'))
  return (info) => new Uint8Array(state.init().update(info).update(Uint8Array.of(1)).digest('binary'))
}
