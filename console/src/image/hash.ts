/** BLAKE3, plain and keyed. */
import { createBLAKE3 } from 'hash-wasm'
import type { Bytes } from './bytes'

export const HASH = 32

/** Hashes one thing after another; keeps its memory from one to the next. */
export interface Hasher {
  hash(...pieces: Uint8Array[]): Bytes
}

/** A hasher; with a key of 32 bytes, it is keyed BLAKE3. */
export async function hasher(key?: Uint8Array): Promise<Hasher> {
  const state = key ? await createBLAKE3(256, key) : await createBLAKE3(256)
  return {
    hash(...pieces) {
      state.init()
      for (const piece of pieces) state.update(piece)
      return new Uint8Array(state.digest('binary'))
    },
  }
}
