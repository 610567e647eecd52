// @vitest-environment node
import { describe, expect, it } from 'vitest'
import { concat, u32, utf8 } from '../image/bytes'
import { readFrames } from './service'
import { imageType, textOf } from './preview'

const frame = (status: number, sealed: string) => concat(Uint8Array.of(status), u32(sealed.length), utf8(sealed))

describe('an answer with chunks', () => {
  const answer = concat(frame(0, 'sealed'), frame(1, ''), frame(2, ''))

  it('is one chunk for each name, or why there is none', () => {
    expect(readFrames(answer, 3)).toEqual([utf8('sealed'), 'missing', 'damaged'])
  })

  it('is refused when it is cut off anywhere, has more than was asked for, or promises too much', () => {
    for (let length = 0; length < answer.length; length++) expect(() => readFrames(answer.slice(0, length), 3)).toThrow('damaged')
    expect(() => readFrames(answer, 2)).toThrow('more than was asked for')
    expect(() => readFrames(concat(Uint8Array.of(0), u32(0xffff_ffff)), 1)).toThrow('cut off')
  })
})

describe('a preview', () => {
  it('is text where it is UTF-8, also where a character was cut in two', () => {
    const text = utf8('Grüße')
    expect(textOf(text, false)).toBe('Grüße')
    expect(textOf(text.subarray(0, 3), true)).toBe('Gr')
    expect(textOf(text.subarray(0, 3), false)).toBeUndefined()
    expect(textOf(Uint8Array.of(104, 0, 105), false)).toBeUndefined()
  })

  it('is an image by what it begins with, not by its name', () => {
    expect(imageType(Uint8Array.of(0x89, 0x50, 0x4e, 0x47, 13, 10))).toBe('image/png')
    expect(imageType(utf8('<svg onload="alert(1)">'))).toBeUndefined()
  })
})
