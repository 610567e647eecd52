/** Bytes, and the few things that are done with them everywhere. */

/** Bytes of their own, not shared with another thread: what WebCrypto takes. */
export type Bytes = Uint8Array<ArrayBuffer>

const encoder = new TextEncoder()

export const utf8 = (text: string): Bytes => encoder.encode(text)

export function concat(...parts: Uint8Array[]): Bytes {
  const all = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0))
  let at = 0
  for (const part of parts) {
    all.set(part, at)
    at += part.length
  }
  return all
}

export const toHex = (bytes: Uint8Array): string => Array.from(bytes, (byte) => byte.toString(16).padStart(2, '0')).join('')

export function fromHex(hex: string): Bytes {
  return Uint8Array.from(hex.match(/../g) ?? [], (pair) => Number.parseInt(pair, 16))
}

/** Base64 (RFC 4648, § 4), as the API has bytes in JSON. */
export const toBase64 = (bytes: Uint8Array): string => btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(''))

export const fromBase64 = (text: string): Bytes => Uint8Array.from(atob(text), (symbol) => symbol.charCodeAt(0))

/** A number of 32 bits, little-endian. */
export function u32(value: number): Bytes {
  const bytes = new Uint8Array(4)
  new DataView(bytes.buffer).setUint32(0, value, true)
  return bytes
}

/** Ascending by their bytes, as names are in a listing. */
export function compare(a: Uint8Array, b: Uint8Array): number {
  const shorter = Math.min(a.length, b.length)
  for (let i = 0; i < shorter; i++) {
    const difference = (a[i] ?? 0) - (b[i] ?? 0)
    if (difference !== 0) return difference
  }
  return a.length - b.length
}

export const same = (a: Uint8Array, b: Uint8Array): boolean => compare(a, b) === 0
