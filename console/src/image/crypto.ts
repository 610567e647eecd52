/** The ciphers of an image store, from WebCrypto and Argon2id. */
import { argon2id } from 'hash-wasm'
import { concat, u32, utf8, type Bytes } from './bytes'
import { ImageError, damaged } from './errors'

export const NONCE = 12
export const TAG = 16

/** HKDF-SHA-256 (RFC 5869) of `input`: 32 bytes. */
export async function expand(input: Uint8Array, salt: Uint8Array, info: string, length = 32): Promise<Bytes> {
  const key = await crypto.subtle.importKey('raw', new Uint8Array(input), 'HKDF', false, ['deriveBits'])
  const how = { name: 'HKDF', hash: 'SHA-256', salt: new Uint8Array(salt), info: utf8(info) }
  return new Uint8Array(await crypto.subtle.deriveBits(how, key, 8 * length))
}

/** Opens what AES-256-GCM sealed; `undefined` when the key is another one or a bit was altered. */
export async function open(key: Uint8Array | CryptoKey, nonce: Uint8Array, sealed: Uint8Array, bound: Uint8Array): Promise<Bytes | undefined> {
  const used = key instanceof CryptoKey ? key : await crypto.subtle.importKey('raw', new Uint8Array(key), 'AES-GCM', false, ['decrypt'])
  const how = { name: 'AES-GCM', iv: new Uint8Array(nonce), additionalData: new Uint8Array(bound) }
  try {
    return new Uint8Array(await crypto.subtle.decrypt(how, used, sealed as Bytes))
  } catch {
    return undefined
  }
}

/** Seals with AES-256-GCM. */
export async function seal(key: Uint8Array, nonce: Uint8Array, content: Uint8Array, bound: Uint8Array): Promise<Bytes> {
  const used = await crypto.subtle.importKey('raw', new Uint8Array(key), 'AES-GCM', false, ['encrypt'])
  const how = { name: 'AES-GCM', iv: new Uint8Array(nonce), additionalData: new Uint8Array(bound) }
  return new Uint8Array(await crypto.subtle.encrypt(how, used, content as Bytes))
}

/** What a guess costs: memory in KiB, passes, lanes. */
export interface ArgonCost {
  memory: number
  passes: number
  lanes: number
}

const MOST: ArgonCost = { memory: 1 << 20, passes: 16, lanes: 8 }
/** What comes from a service is not tried below this: it could make a guess cheap. */
const LEAST = { memory: 64 << 10, passes: 3 }

/** A cost as it is stored. Refused before anything is allocated when it is too high. */
export function readCost(what: string, values: unknown[]): ArgonCost {
  const [memory, passes, lanes] = values
  if (typeof memory !== 'number' || typeof passes !== 'number' || typeof lanes !== 'number' || values.length !== 3) {
    throw damaged(what, 'its cost is not three numbers')
  }
  const fits = lanes >= 1 && lanes <= MOST.lanes && passes >= 1 && passes <= MOST.passes && memory >= 8 * lanes && memory <= MOST.memory
  if (!fits) throw damaged(what, 'it would cost more to open than is allowed')
  return { memory, passes, lanes }
}

export const costBytes = (cost: ArgonCost | undefined) => concat(u32(cost?.memory ?? 0), u32(cost?.passes ?? 0), u32(cost?.lanes ?? 0))

/** Whether a cost is high enough for a secret to be tried against it. */
export const isCostly = (cost: ArgonCost) => cost.memory >= LEAST.memory && cost.passes >= LEAST.passes

/** Argon2id (RFC 9106) of a passphrase in UTF-8 after Unicode NFC: 32 bytes. */
export async function stretch(passphrase: string, salt: Uint8Array, cost: ArgonCost): Promise<Bytes> {
  if (passphrase === '') throw new ImageError('secret', 'the passphrase is empty')
  const key = await argon2id({
    password: passphrase.normalize('NFC'),
    salt,
    memorySize: cost.memory,
    iterations: cost.passes,
    parallelism: cost.lanes,
    hashLength: 32,
    outputType: 'binary',
  })
  return new Uint8Array(key)
}
