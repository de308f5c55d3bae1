// Light, dark, or as the machine has it. The choice is kept in this browser.
import { useState } from 'react'

const choices = ['as the machine', 'day', 'night'] as const
type Choice = (typeof choices)[number]

function apply(choice: Choice) {
  const theme = { 'as the machine': '', day: 'light', night: 'dark' }[choice]
  if (theme) document.documentElement.dataset.theme = theme
  else delete document.documentElement.dataset.theme
}

function kept(): Choice {
  return choices.find((c) => c === localStorage.getItem('light')) ?? 'as the machine'
}

export const applyKeptTheme = () => apply(kept())

export function useTheme(): [Choice, () => void] {
  const [choice, choose] = useState(kept)
  return [
    choice,
    () => {
      const next = choices[(choices.indexOf(choice) + 1) % choices.length]!
      localStorage.setItem('light', next)
      apply(next)
      choose(next)
    },
  ]
}
