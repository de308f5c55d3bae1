import { expect, test } from 'vitest'
import { place, stretches } from './settling'

test('a moment is placed between the ends, and never beyond them', () => {
  expect(place(0, 0, 100)).toBe(0)
  expect(place(50, 0, 100)).toBe(320)
  expect(place(100, 0, 100)).toBe(640)
  expect(place(-5, 0, 100)).toBe(0)
  expect(place(500, 0, 100)).toBe(640)
  expect(place(5, 5, 5)).toBe(0)
})

test('each mark lasts until the next, the last one until now', () => {
  expect(
    stretches(
      [
        { at: 1, sees: 'old' },
        { at: 4, sees: 'new' },
      ],
      9,
    ),
  ).toEqual([
    { from: 1, to: 4, sees: 'old' },
    { from: 4, to: 9, sees: 'new' },
  ])
})
