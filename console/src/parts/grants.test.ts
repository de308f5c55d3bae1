import { expect, test } from 'vitest'
import type { GrantView } from '../api/types'
import { grantOf, grantText, noGrant, valuesOf } from './grants'

test('a form becomes a grant, and is read as the command line writes it', () => {
  expect(grantText(grantOf({ ...noGrant, may: 'viewer' }))).toBe('viewer')
  expect(grantText(grantOf({ may: 'editor', zones: 'a.example, *.b.example', names: '', types: '' }))).toBe('editor zones=a.example,*.b.example')
  const acme = grantOf({ may: 'edit,sync', zones: 'a.example', names: '_acme-challenge _acme-challenge.*', types: 'txt' })
  expect(acme).toEqual({ actions: ['edit', 'sync'], zones: ['a.example'], names: ['_acme-challenge', '_acme-challenge.*'], types: ['TXT'] })
  expect(valuesOf(acme as GrantView)).toEqual({ may: 'edit,sync', zones: 'a.example', names: '_acme-challenge, _acme-challenge.*', types: 'TXT' })
  expect(grantText(acme)).toBe('edit,sync zones=a.example names=_acme-challenge,_acme-challenge.* types=TXT')
})
