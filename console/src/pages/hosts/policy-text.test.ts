import { describe, expect, test } from 'vitest'
import { inherited, policyOf, sourceOptions, secondsOf, short, texts, typed } from './policy-text'

const empty = texts({})

describe('times as they are typed', () => {
  test.each([
    ['0s', 0], ['30s', 30], ['15m', 900], ['1h30m', 5400], ['2d', 172_800], ['1d1s', 86_401],
  ])('%s', (text, seconds) => {
    expect(secondsOf(text)).toBe(seconds)
    expect(short(seconds)).toBe(text)
  })
  test('a bare number is seconds, and weeks are read', () => {
    expect(secondsOf('90')).toBe(90)
    expect(secondsOf('1w')).toBe(604_800)
  })
})

describe('a policy and its fields', () => {
  test.each([
    {}, { allowed_networks: [] }, { allowed_networks: ['192.0.2.0/24', '2001:db8::/32'] }, { silence: 0, hold_down: 0 },
    { silence: 7200, on_silence: 'fallback', fallback_v4: '192.0.2.7', second_source: 'peer', min_interval: 60, max_hold_down: 900, failover: 600 },
  ])('%j comes back as it was', (policy) => {
    expect(policyOf(typed.parse(texts(policy)))).toEqual(policy)
  })
  test('an empty field shows what holds, and nothing of what was set here', () => {
    const shown = inherited({ silence: 7200, failover: 600, second_source: 'peer' }, { silence: 7200 })
    expect([shown.silence, shown.failover, shown.networks]).toEqual(['inherited', '10m', 'public'])
    expect(sourceOptions(shown.second_source)[0]).toEqual({ value: '', label: 'inherited: the address that the report comes from' })
    expect(sourceOptions(shown.silence)[0]?.label).toBe('inherited')
  })
  test.each([
    [{ silence: 'soon' }, 'silence'], [{ networks: 'here' }, 'networks'], [{ fallback_v4: '2001:db8::1' }, 'fallback_v4'], [{ on_silence: 'fallback' }, 'fallback_v4'],
  ])('%j is refused at its field', (fault, field) => {
    const result = typed.safeParse({ ...empty, ...fault })
    expect(result.success).toBe(false)
    expect(result.error?.issues[0]?.path).toEqual([field])
  })
})
