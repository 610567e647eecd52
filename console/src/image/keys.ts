/** What follows from a store key (§ 3). */
import type { Bytes } from './bytes'
import { utf8 } from './bytes'
import { expand } from './crypto'
import { hasher, type Hasher } from './hash'

export interface StoreKeys {
  store: Bytes
  /** Keyed BLAKE3: a chunk's name is that of its content. */
  name: Hasher
  /** The AES-256-GCM key of a chunk. */
  chunkKey(name: Bytes): Promise<CryptoKey>
  /** The AES-256-GCM key of point bodies. */
  point: Bytes
}

export async function storeKeys(store: Bytes, key: Bytes): Promise<StoreKeys> {
  const subkey = (info: string) => expand(key, store, info)
  const seal = await crypto.subtle.importKey('raw', await subkey('jetfrost v1 chunk seal'), 'HKDF', false, ['deriveKey'])
  const chunkKey = (name: Bytes) => {
    const how = { name: 'HKDF', hash: 'SHA-256', salt: utf8(''), info: name }
    return crypto.subtle.deriveKey(how, seal, { name: 'AES-GCM', length: 256 }, false, ['decrypt'])
  }
  return { store, name: await hasher(await subkey('jetfrost v1 chunk name')), chunkKey, point: await subkey('jetfrost v1 point seal') }
}
