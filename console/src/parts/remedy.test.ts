import { expect, test } from 'vitest'
import { remedyParts } from './remedy'

const shown = (text: string, zone = 'pier.example') =>
  remedyParts(text, zone)
    .map((p) => (p.to ? `[${p.text}](${p.to})` : p.text))
    .join('')

test.each([
  ['Make the saved list active: beacon delegate pier.example', 'Make the saved list active: [open Delegation](/domains/pier.example/delegation)'],
  ['When the new zone is ready, move the domain: beacon delegate other.example.', 'When the new zone is ready, move the domain: [open Delegation](/domains/other.example/delegation).'],
  ['Make the zone at this provider (beacon sync), or delegate to the provider that has it (beacon delegate).', 'Make the zone at this provider ([open Changes](/domains/pier.example/changes)), or delegate to the provider that has it ([open Delegation](/domains/pier.example/delegation)).'],
  ['If this is intended, allow it: --allow names-would-stop; else add the names again.', 'If this is intended, tick “Allow it”; else add the names again.'],
  ['Revert it with beacon sync --revert, or adopt it: beacon drift ZONE --adopt.', 'Revert it with [open Changes](/domains/pier.example/changes), or adopt it: [open Changes](/domains/pier.example/changes).'],
  ['Create a narrower one: beacon provider rotate heron-main', 'Create a narrower one: [open Accounts](/accounts) heron-main'],
  ['Lift it: beacon registrar unlock pier.example, or at the registrar\'s site.', 'Lift it: [open Delegation, then “Lift lock”](/domains/pier.example/delegation), or at the registrar\'s site.'],
  ['Set what the provider takes: beacon zone settings pier.example --soa FIELD=VALUE.', 'Set what the provider takes: [open Changes, then “Change settings”](/domains/pier.example/changes).'],
  ['Nothing to do.', 'Nothing to do.'],
])('%s', (text, want) => expect(shown(text)).toBe(want))

test('without a domain, pages of a domain are named and not linked', () => {
  expect(shown('Write the zone first: beacon sync; then delegate.', '')).toBe('Write the zone first: open Changes; then delegate.')
})
