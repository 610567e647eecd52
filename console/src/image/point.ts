/** Recovery points (§ 7): a clear part, and a body that only the store key opens. */
import { same, type Bytes } from './bytes'
import { Fields, readArray, readBytes, readCbor, readText } from './cbor'
import { readContent, type Content } from './content'
import { NONCE, open } from './crypto'
import { damaged, ImageError } from './errors'
import { HASH, hasher } from './hash'
import type { StoreKeys } from './keys'

const WHAT = 'a recovery point'
const MAGIC = Uint8Array.of(0x89, 0x4a, 0x46, 0x50, 0x4e, 0x54, 0x0d, 0x0a)
const HEAD = 16

export interface PointBody {
  /** The listing that begins at `/`, or that of the disks. */
  root: Content
  /** Folders or disks that were included. */
  included: Bytes[]
  /** Patterns that were excluded. */
  excluded: string[]
  /** The machine's name. */
  host: string
}

/** Opens a point file, and checks that it is the point of this store that was asked for: a service that lies could give another. */
export async function openPoint(keys: StoreKeys, sequence: number, bytes: Bytes): Promise<PointBody> {
  const { clear, sealed, bound } = await takeApart(bytes)
  const head = new Fields(WHAT, readCbor(WHAT, clear))
  if (!same(head.bytes(0, 16), keys.store) || head.integer(2, 1) !== sequence) throw damaged(WHAT, 'it is another one than was asked for')
  const body = await open(keys.point, sealed.subarray(0, NONCE), sealed.subarray(NONCE), bound)
  if (!body) throw damaged(WHAT, 'it was altered, or is of another store')
  return readBody(body)
}

async function takeApart(bytes: Bytes) {
  if (bytes.length < HEAD + 4 + HASH || !same(bytes.subarray(0, 8), MAGIC)) throw damaged(WHAT, 'it is not one')
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  if (view.getUint16(8, true) !== 1) throw new ImageError('unknown-version', 'the recovery point is of a later version than this console')
  const clearEnds = HEAD + view.getUint32(12, true)
  if (view.getUint16(10, true) !== 0 || clearEnds + 4 + HASH > bytes.length) throw damaged(WHAT, 'its lengths do not add up')
  const sealedEnds = clearEnds + 4 + view.getUint32(clearEnds, true)
  if (sealedEnds + HASH !== bytes.length) throw damaged(WHAT, 'its lengths do not add up')
  const plain = await hasher()
  if (!same(plain.hash(bytes.subarray(0, sealedEnds)), bytes.subarray(sealedEnds))) throw damaged(WHAT, 'its check does not match')
  return { clear: bytes.subarray(HEAD, clearEnds), sealed: bytes.subarray(clearEnds + 4, sealedEnds), bound: bytes.subarray(0, clearEnds) }
}

function readBody(bytes: Bytes): PointBody {
  const body = new Fields(WHAT, readCbor(WHAT, bytes))
  return {
    root: readContent(body.value(0)),
    included: readArray(WHAT, body.value(1)).map((path) => readBytes(WHAT, path)),
    excluded: readArray(WHAT, body.value(2)).map((pattern) => readText(WHAT, pattern)),
    host: body.text(3),
  }
}
