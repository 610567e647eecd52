/** What the worker asks of the service: key slots, point files, sealed chunks. No secret, key or name is in any of it. */
import { problemOf, ProblemError, unreachable } from '../api/problem'
import { concat, fromBase64, type Bytes } from '../image/bytes'
import type { Sealed } from '../image/chunks'
import { damaged } from '../image/errors'

const ROOT = '/api/v1/stores'
/** Names that are sent in one call. */
const MOST_NAMES = 1024
const FRAME_HEAD = 5
/** A sealed chunk is not longer than this. */
const MOST_SEALED = (1 << 20) + 64

async function ask(path: string, init?: RequestInit): Promise<Response> {
  const response = await fetch(path, { credentials: 'same-origin', ...init }).catch(() => {
    throw new ProblemError(unreachable)
  })
  if (!response.ok) throw new ProblemError(await problemOf(response))
  return response
}

/** The key slots of a store, as stored. */
export async function fetchSlots(store: string): Promise<Bytes[]> {
  const response = await ask(`${ROOT}/${encodeURIComponent(store)}/slots`)
  const { slots } = (await response.json()) as { slots: string[] }
  return slots.map(fromBase64)
}

/** A point's file. */
export async function fetchPoint(store: string, sequence: number): Promise<Bytes> {
  const response = await ask(`${ROOT}/${encodeURIComponent(store)}/points/${sequence}`)
  const { point } = (await response.json()) as { point: string }
  return fromBase64(point)
}

/** Sealed chunks, in the order of their names. */
export async function fetchChunks(store: string, names: Bytes[]): Promise<Sealed[]> {
  const chunks: Sealed[] = []
  for (let at = 0; at < names.length; at += MOST_NAMES) {
    const some = names.slice(at, at + MOST_NAMES)
    const headers = { 'Content-Type': 'application/octet-stream' }
    const response = await ask(`${ROOT}/${encodeURIComponent(store)}/chunks/fetch`, { method: 'POST', headers, body: concat(...some) })
    chunks.push(...readFrames(new Uint8Array(await response.arrayBuffer()), some.length))
  }
  return chunks
}

/** A frame for each name: status (one byte), length (u32, little-endian), sealed bytes. */
export function readFrames(answer: Bytes, count: number): Sealed[] {
  const view = new DataView(answer.buffer, answer.byteOffset, answer.byteLength)
  const frames: Sealed[] = []
  let at = 0
  while (frames.length < count) {
    if (at + FRAME_HEAD > answer.length) throw damaged('the service’s answer', 'it ends too early')
    const status = view.getUint8(at)
    const length = view.getUint32(at + 1, true)
    at += FRAME_HEAD
    if (length > MOST_SEALED || at + length > answer.length) throw damaged('the service’s answer', 'a chunk in it is cut off')
    frames.push(status === 0 ? answer.subarray(at, at + length) : status === 1 ? 'missing' : 'damaged')
    at += length
  }
  if (at !== answer.length) throw damaged('the service’s answer', 'it holds more than was asked for')
  return frames
}
