import { expect, test } from 'vitest'
import { csv } from './csv'

test('quotes, commas and lines are within quotes', () => {
  expect(csv([['a', 'b,c', 'd"e', 'f\ng']])).toBe('a,"b,c","d""e","f\ng"\r\n')
})

test('what a spreadsheet would calculate is text', () => {
  expect(csv([['=1+1', '@x', '-5', 'fine']])).toBe("'=1+1,'@x,'-5,fine\r\n")
})
