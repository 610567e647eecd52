/** Orders of a restore (§ 12): sealed for the workstation, so that the service can only carry them. */
import { encode } from 'cborg'
import { concat, u32, utf8, type Bytes } from './bytes'
import { NONCE, seal } from './crypto'
import { ImageError } from './errors'
import type { StoreKeys } from './keys'

const VERSION = Uint8Array.of(1, 0)
const STEP = 4096
const MOST = 40 << 10
const MOST_PATHS = 500

/** What a workstation is asked to bring back. */
export interface Order {
  /** 16 random bytes. */
  id: Bytes
  point: number
  paths: Bytes[]
  /** A folder of the workstation; none means beside where it was. */
  into: Bytes | undefined
  login: string
  session: string
  /** Unix milliseconds. */
  created: number
  expires: number
}

/** Seals an order; one that names more than the format takes is refused. */
export async function sealOrder(keys: StoreKeys, order: Order, nonce: Bytes = crypto.getRandomValues(new Uint8Array(NONCE))): Promise<Bytes> {
  const { id, point, paths, into, login, session, created, expires } = order
  const fields: [number, unknown][] = [
    [0, id],
    [1, point],
    [2, paths],
    ...(into ? [[3, into] as [number, unknown]] : []),
    [4, login],
    [5, session],
    [6, created],
    [7, expires],
  ]
  const map = encode(new Map(fields))
  const sealed = new Uint8Array(Math.ceil((4 + map.length) / STEP) * STEP)
  if (paths.length > MOST_PATHS || sealed.length > MOST) throw new ImageError('too-much', 'One order cannot name that many files')
  sealed.set(concat(u32(map.length), map))
  return concat(VERSION, nonce, await seal(keys.order, nonce, sealed, concat(utf8('jetfrost v1 order'), VERSION, keys.store)))
}
