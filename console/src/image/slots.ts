/** Key slots (§ 3): each unlocks the store key by one secret. */
import { Aes256Gcm, CipherSuite, DhkemX25519HkdfSha256, HkdfSha256 } from '@hpke/core'
import { concat, same, utf8, type Bytes } from './bytes'
import { Fields, readCbor } from './cbor'
import { costBytes, expand, isCostly, open, readCost, stretch, type ArgonCost } from './crypto'
import { damaged, ImageError } from './errors'
import { HASH, hasher } from './hash'
import { readRecoveryKey } from './recoveryKey'

const WHAT = 'a key slot'
const KINDS = { 1: 'passphrase', 2: 'recovery-key', 3: 'office-key', 4: 'unencrypted' } as const
export type SlotKind = (typeof KINDS)[keyof typeof KINDS]

/** What a person unlocks a store with. */
export type Secret =
  | { kind: 'passphrase'; passphrase: string }
  | { kind: 'recovery-key'; typed: string }
  | { kind: 'office-key'; file: Bytes; passphrase: string }
  | { kind: 'unencrypted' }

export interface Slot {
  kind: SlotKind
  store: Bytes
  salt: Bytes
  cost: ArgonCost | undefined
  nonce: Bytes
  wrapped: Bytes
  encapsulated: Bytes | undefined
  office: Bytes | undefined
  bound: Bytes
}

export async function readSlot(bytes: Bytes): Promise<Slot> {
  const fields = new Fields(WHAT, readCbor(WHAT, bytes))
  if (fields.integer(0) !== 1) throw new ImageError('unknown-version', 'the image store is of a later version than this console; reload the page after the service was updated')
  await check(WHAT, bytes, fields)
  const store = fields.bytes(1, 16)
  const number = fields.integer(3)
  if (number !== 1 && number !== 2 && number !== 3 && number !== 4) throw damaged(WHAT, 'its kind is unknown')
  const kind = KINDS[number]
  const salt = fields.bytes(5, 16)
  const cost = kind === 'passphrase' ? readCost(WHAT, fields.array(6)) : undefined
  const office = kind === 'office-key' ? fields.bytes(11, 32) : undefined
  const encapsulated = kind === 'office-key' ? fields.bytes(10, 32) : undefined
  const bound = concat(utf8('jetfrost v1 slot'), store, fields.bytes(2, 8), Uint8Array.of(number), salt, costBytes(cost), office ?? new Uint8Array())
  return { kind, store, salt, cost, nonce: fields.bytes(7, 12), wrapped: fields.bytes(8, 48), encapsulated, office, bound }
}

/** Key 255 of a slot: BLAKE3 of all bytes before its own 32, which are the last. One of 0.2.0 has none. */
async function check(what: string, bytes: Bytes, fields: Fields): Promise<void> {
  if (!fields.has(255)) return
  const plain = await hasher()
  const before = bytes.subarray(0, bytes.length - HASH)
  if (!same(fields.bytes(255, HASH), plain.hash(before))) throw damaged(what, 'its check does not match')
}

/** The store key, from a slot and a secret of its kind; `undefined` when it is another secret. */
export async function unwrap(slot: Slot, secret: Secret): Promise<Bytes | undefined> {
  switch (secret.kind) {
    case 'passphrase': {
      if (slot.kind !== 'passphrase' || !slot.cost) return undefined
      return open(await stretch(secret.passphrase, slot.salt, slot.cost), slot.nonce, slot.wrapped, slot.bound)
    }
    case 'recovery-key': {
      if (slot.kind !== 'recovery-key') return undefined
      const key = await readRecoveryKey(secret.typed)
      return open(await expand(key, slot.salt, 'jetfrost v1 recovery'), slot.nonce, slot.wrapped, slot.bound)
    }
    case 'office-key': {
      if (slot.kind !== 'office-key') return undefined
      return unwrapForOffice(slot, await openOfficeKey(secret.file, secret.passphrase))
    }
    case 'unencrypted': {
      if (slot.kind !== 'unencrypted') return undefined
      return open(await expand(new Uint8Array(), slot.salt, 'jetfrost v1 open'), slot.nonce, slot.wrapped, slot.bound)
    }
  }
}

/** The office key, taken out of its file. */
interface OfficeKey {
  publicHalf: Bytes
  privateHalf: Bytes
}

const OFFICE = 'the office key’s file'

async function openOfficeKey(file: Bytes, passphrase: string): Promise<OfficeKey> {
  const fields = new Fields(OFFICE, readCbor(OFFICE, file))
  if (fields.integer(0) !== 1) throw new ImageError('unknown-version', 'the office key’s file is of a later version than this console')
  const publicHalf = fields.bytes(1, 32)
  const salt = fields.bytes(2, 16)
  const cost = readCost(OFFICE, fields.array(3))
  const bound = concat(utf8('jetfrost v1 office key'), publicHalf, salt, costBytes(cost))
  const privateHalf = await open(await stretch(passphrase, salt, cost), fields.bytes(4, 12), fields.bytes(5, 48), bound)
  if (!privateHalf) throw new ImageError('secret', 'this passphrase does not open the office key’s file')
  return { publicHalf, privateHalf }
}

/** HPKE (RFC 9180), base mode, single shot. */
async function unwrapForOffice(slot: Slot, key: OfficeKey): Promise<Bytes | undefined> {
  if (!slot.office || !slot.encapsulated || !same(slot.office, key.publicHalf)) return undefined
  const suite = new CipherSuite({ kem: new DhkemX25519HkdfSha256(), kdf: new HkdfSha256(), aead: new Aes256Gcm() })
  try {
    const recipientKey = await suite.kem.importKey('raw', key.privateHalf.buffer, false)
    const parameters = { recipientKey, enc: slot.encapsulated, info: utf8('jetfrost v1 escrow') }
    return new Uint8Array(await suite.open(parameters, slot.wrapped, slot.bound))
  } catch {
    return undefined
  }
}

/** The most slots that a store has. */
const MOST_SLOTS = 16

/** The store key, from whichever slot of a store the secret opens. */
export async function unlock(store: Bytes, stored: Bytes[], secret: Secret): Promise<Bytes> {
  if (stored.length > MOST_SLOTS) throw damaged('the image store', 'it has more key slots than a store can have')
  const read = await Promise.allSettled(stored.map(readSlot))
  const slots = read.flatMap((one) => (one.status === 'fulfilled' ? one.value : [])).filter((slot) => slot.kind === secret.kind && same(slot.store, store))
  if (slots.length === 0) {
    // One that is damaged keeps nobody out who has another.
    const failed = read.find((one) => one.status === 'rejected')
    throw failed ? failed.reason : new ImageError('secret', 'this image store has no unlock method of this kind')
  }
  // A service that lies could make a guess cheap, and see afterwards which passphrase was tried.
  if (slots.some((slot) => slot.cost && !isCostly(slot.cost))) throw damaged(WHAT, 'it would make guessing the passphrase cheap')
  for (const slot of slots) {
    const key = await unwrap(slot, secret)
    if (key) return key
  }
  throw new ImageError('secret', WRONG[secret.kind])
}

const WRONG: Record<SlotKind, string> = {
  passphrase: 'This is not the image passphrase of this workstation. It was chosen when the workstation joined, and is not the account’s password.',
  'recovery-key': 'This recovery key is of another workstation, or was replaced by a newer one.',
  'office-key': 'This office key is another one than the workstation’s key was kept for.',
  unencrypted: 'The key of this unencrypted image store is damaged.',
}
