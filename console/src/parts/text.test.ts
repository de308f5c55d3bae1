import { describe, expect, test } from 'vitest'
import { another, lasting, marked, moment, relative, shown, span } from './text'

const show = (name: string, wanted: string[]) =>
  marked(name, wanted)
    .map((p) => (p.differs ? `[${p.text}]` : p.text))
    .join('')

describe('differing characters', () => {
  test.each([
    ['quay-11.heron.test.', ['quay-11.heron.test'], 'quay-11.heron.test'],
    ['quay-12.heron.test', ['quay-11.heron.test'], 'quay-1[2].heron.test'],
    ['quay-12.heron.test', ['quay-71.heron.test', 'quay-13.heron.test'], 'quay-1[2].heron.test'],

    ['quay-111.heron.test', ['quay-11.heron.test'], 'quay-11[1].heron.test'],
    ['reed-11.plover.test', [], 'reed-11.plover.test'],
  ])('%s against %j', (name, wanted, want) => {
    const got = show(name, wanted)
    expect(got).toBe(want)
    expect(marked(name, wanted).map((p) => p.text).join('')).toBe(name.replace(/\.$/, '')) // nothing is lost
  })
})

test('a name that resembles none of the wanted is another one', () => {
  expect(another('quay-12.heron.test.', ['quay-11.heron.test'])).toBe(false)
  expect(another('reed-11.plover.test.', ['quay-11.heron.test'])).toBe(true)
  expect(another('reed-11.plover.test.', [])).toBe(false)
})

test.each([
  [-5, '0 s'],
  [59_400, '59 s'],
  [61_000, '1 min 01 s'],
  [3_660_000, '1 h 01 min'],
  [180_000_000, '2 days 2 h'],
])('a span of %d ms', (ms, want) => expect(span(ms)).toBe(want))

test('a moment has its date only on another day', () => {
  const at = Date.parse('2027-03-01T10:00:00Z')
  expect(moment(at, at)).toBe('10:00:00')
  expect(moment(at, at + 86_400_000)).toBe('2027-03-01 10:00:00')
})

test.each([
  ['a.example.', 'a.example', '@'],
  ['www.a.example.', 'a.example.', 'www'],
  ['b.example.', 'a.example.', 'b.example'],
  ['xa.example.', 'a.example.', 'xa.example'],
])('%s within %s is %s', (name, zone, want) => expect(relative(name, zone)).toBe(want))

test('shows names in other scripts as people write them', () => {
  expect(shown('xn--fhre-loa.example')).toBe('fähre.example')
  expect(shown('xn--e1afmkfd.xn--80akhbyknj4f.example')).toBe('пример.испытание.example')
  expect(shown('xn--n3h.example')).toBe('☃.example')
  expect(relative('xn--fhre-loa.tide.example.', 'tide.example')).toBe('fähre')
  expect(shown('xn--.example')).toBe('.example')
  expect(shown('xn--99999999999.example')).toBe('xn--99999999999.example')
  expect(shown('plain.example')).toBe('plain.example')
})

test.each([
  [0, '0 s'], [30, '30 s'], [900, '15 min'], [5400, '1 h 30 min'], [86_400, '1 day'], [2_592_000, '30 days'],
])('%i seconds last %s', (seconds, text) => expect(lasting(seconds)).toBe(text))
