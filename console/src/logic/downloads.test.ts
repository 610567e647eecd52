import { expect, test } from 'vitest'
import { installing } from './downloads'

test('a package says how it is installed, and what is none says nothing', () => {
  expect(installing('jetfrost_0.3.0_amd64.deb')).toBe('sudo apt install ./jetfrost_0.3.0_amd64.deb')
  expect(installing('jetfrost-0.3.0.x86_64.rpm')).toContain('dnf install')
  expect(installing('jetfrost-0.3.0.tar.gz')).toBe('tar xzf jetfrost-0.3.0.tar.gz')
  expect(installing('SHA256SUMS')).toBe('')
})
