import { expect, it } from 'vitest'
import type { RecordForm } from '../../../api/types'
import { split, tokens, unquoted } from './fields'

const form = (...kinds: string[]) => ({ fields: kinds.map((kind, i) => ({ name: 'f' + i, kind })) }) as unknown as RecordForm

it('parts data outside quotes', () => {
  expect(tokens('10 5 7447 gauge.example.')).toEqual(['10', '5', '7447', 'gauge.example.'])
  expect(tokens('0 issue "ca.example; account=1 2"')).toEqual(['0', 'issue', '"ca.example; account=1 2"'])
  expect(tokens('"a \\" b" "c"')).toEqual(['"a \\" b"', '"c"'])
})

it('shows texts as they were typed', () => {
  expect(unquoted('"say \\"hi\\" \\\\"')).toBe('say "hi" \\')
  expect(unquoted('"F\\195\\164hre"')).toBe('Fähre')
})

it('takes data apart by the kinds of the fields', () => {
  expect(split(form('number', 'host'), '10 mx1.post.example.')).toEqual({ f0: '10', f1: 'mx1.post.example.' })
  expect(split(form('texts'), '"v=DKIM1; " "p=abc"')).toEqual({ f0: 'v=DKIM1; p=abc' })
  expect(split(form('number', 'word', 'text'), '0 issue "ca.example"')).toEqual({ f0: '0', f1: 'issue', f2: 'ca.example' })
  expect(split(form('number', 'octets'), '4 12 34')).toEqual({ f0: '4', f1: '1234' })
  expect(split(form('number', 'host', 'rest'), '1 .')).toEqual({ f0: '1', f1: '.', f2: '' })
})
