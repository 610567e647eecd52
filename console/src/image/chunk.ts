/** Opening sealed chunks (§ 4). */
import { decompress } from '@bokuweb/zstd-wasm'
import { same, type Bytes } from './bytes'
import { NONCE, open, TAG } from './crypto'
import { damaged } from './errors'
import type { StoreKeys } from './keys'

/** A chunk's content is not longer than this. */
export const MAX_CHUNK = 1 << 20
const WHAT = 'a chunk'
const STORED = 0
const ZSTD = 1

/** The content of a sealed chunk: authenticated, decompressed, and its name computed again. */
export async function openChunk(keys: StoreKeys, name: Bytes, sealed: Bytes): Promise<Bytes> {
  if (sealed.length < NONCE + 1 + TAG) throw damaged(WHAT, 'it is too short')
  const data = await open(await keys.chunkKey(name), sealed.subarray(0, NONCE), sealed.subarray(NONCE), name)
  if (!data) throw damaged(WHAT, 'it was altered, or is another one')
  const content = bodyOf(data)
  if (!same(keys.name.hash(content), name)) throw damaged(WHAT, 'its content is not what its name says')
  return content
}

function bodyOf(data: Bytes): Bytes {
  const body = data.subarray(1)
  if (data[0] === STORED) return limited(body)
  if (data[0] !== ZSTD) throw damaged(WHAT, 'how it is compressed is unknown')
  const length = contentLength(body)
  if (length !== undefined && length > MAX_CHUNK) throw damaged(WHAT, 'it is longer than chunks are')
  try {
    return limited(decompress(body, { defaultHeapSize: MAX_CHUNK }) as Bytes)
  } catch {
    throw damaged(WHAT, 'it does not decompress')
  }
}

function limited(content: Bytes): Bytes {
  if (content.length === 0 || content.length > MAX_CHUNK) throw damaged(WHAT, 'its length is out of range')
  return content
}

/**
 * How long a Zstandard frame says that its content is, so that nothing is allocated on the word of a frame alone (RFC 8878,
 * section 3.1.1.1); `undefined` if it does not say.
 */
export function contentLength(frame: Bytes): number | undefined {
  const view = new DataView(frame.buffer, frame.byteOffset, frame.byteLength)
  if (frame.length < 6 || view.getUint32(0, true) !== 0xfd2fb528) throw damaged(WHAT, 'it is not compressed as chunks are')
  const descriptor = view.getUint8(4)
  const isSingle = (descriptor & 0x20) !== 0
  const dictionary = [0, 1, 2, 4][descriptor & 3] ?? 0
  const at = 5 + (isSingle ? 0 : 1) + dictionary
  const kind = descriptor >>> 6
  const bytes = kind === 0 ? (isSingle ? 1 : 0) : 1 << kind
  if (at + bytes > frame.length) throw damaged(WHAT, 'it is too short')
  switch (bytes) {
    case 0:
      return undefined
    case 1:
      return view.getUint8(at)
    case 2:
      return view.getUint16(at, true) + 256
    case 4:
      return view.getUint32(at, true)
    default:
      return Number(view.getBigUint64(at, true))
  }
}
