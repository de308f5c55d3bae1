// Light, dark, or as the machine has it. The choice is kept in this browser.
import { useState } from 'react'

export const choices = ['auto', 'day', 'night'] as const
export type Choice = (typeof choices)[number]

function apply(choice: Choice) {
  const theme = { auto: '', day: 'light', night: 'dark' }[choice]
  if (theme) document.documentElement.dataset.theme = theme
  else delete document.documentElement.dataset.theme
}

function kept(): Choice {
  return choices.find((c) => c === localStorage.getItem('light')) ?? 'auto'
}

export const applyKeptTheme = () => apply(kept())

export function useTheme(): [Choice, (choice: Choice) => void] {
  const [choice, choose] = useState(kept)
  return [
    choice,
    (next) => {
      localStorage.setItem('light', next)
      apply(next)
      choose(next)
    },
  ]
}
