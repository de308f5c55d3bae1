// Applying a definition: dropped, picked, pasted, or generated from an existing zone; reviewed; accepted.
import { useId, useRef, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useApply } from '../../api/hooks'
import type { Applied, DefinitionFile } from '../../api/types'
import { Key, Notice, PageHead, Plate, Trouble } from '../../parts/kit'
import { count, plain } from '../../parts/text'
import { Drafting } from './drafting'
import { Taken } from './taken'

export function Apply() {
  const [search] = useSearchParams()
  const zone = search.get('zone') ?? ''
  const [name, setName] = useState('pasted.beacon.yaml')
  const [text, setText] = useState('')
  const look = useApply()
  const take = useApply()
  const files: DefinitionFile[] = [{ name, text }]

  function change(file: DefinitionFile) {
    setName(file.name)
    setText(file.text)
    look.reset()
    take.reset()
  }
  const looked = look.data?.items
  const done = take.data?.items
  return (
    <>
      <title>Apply · Agile Beacon</title>
      <PageHead title={zone ? `Add ${zone}` : 'Apply a definition'} lead="A definition has the desired records of a zone and its providers. Nothing changes before you have reviewed the changes." />
      {done ? (
        <Done list={done} again={() => change({ name: 'pasted.beacon.yaml', text: '' })} />
      ) : (
        <div className="grid gap-5">
          <Drafting zone={zone} registrar={search.get('registrar') ?? ''} drafted={change} open={zone !== '' && text === ''} />
          <Editor name={name} text={text} change={change} />
          {look.error && <Trouble error={look.error} />}
          {looked && <WouldDo list={looked} />}
          {take.error && <Trouble error={take.error} />}
          <div className="flex flex-wrap gap-3">
            {looked ? (
              <Key weight="main" busy={take.isPending} onClick={() => take.mutate({ files, dryRun: false, manage: false })}>
                Accept as desired records
              </Key>
            ) : (
              <Key weight="main" disabled={text.trim() === ''} busy={look.isPending} onClick={() => look.mutate({ files, dryRun: true, manage: false })}>
                Review changes
              </Key>
            )}
          </div>
        </div>
      )}
    </>
  )
}

function Editor({ name, text, change }: { name: string; text: string; change: (file: DefinitionFile) => void }) {
  const id = useId()
  const picker = useRef<HTMLInputElement>(null)
  const [over, setOver] = useState(false)
  async function read(file: File | undefined) {
    if (file) change({ name: file.name, text: await file.text() })
  }
  return (
    <Plate title="The definition" aside={text ? name : 'drop a *.beacon.yaml file here, pick one, or paste'} className={over ? 'border-2 border-accent' : ''}>
      <div
        onDragOver={(e) => (e.preventDefault(), setOver(true))}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => (e.preventDefault(), setOver(false), void read(e.dataTransfer.files[0]))}
      >
        <label className="sr-only" htmlFor={id}>
          Definition
        </label>
        <textarea
          id={id}
          value={text}
          spellCheck={false}
          onChange={(e) => change({ name, text: e.target.value })}
          wrap="off"
          className="field data min-h-72 overflow-auto whitespace-pre"
          placeholder={'zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    registrar: gannet-main\n    records: |\n      @    A      192.0.2.40\n      www  CNAME  @'}
        />
        <input ref={picker} type="file" accept=".yaml,.yml" className="sr-only" tabIndex={-1} aria-hidden="true" onChange={(e) => void read(e.target.files?.[0])} />
        <Key className="mt-2" onClick={() => picker.current?.click()}>
          Pick a file
        </Key>
      </div>
    </Plate>
  )
}

function WouldDo({ list }: { list: Applied[] }) {
  const warnings = list.flatMap((d) => d.findings).filter((f) => f.severity === 'warning').length
  return (
    <div className="grid gap-3">
      <Notice light={warnings > 0 ? 'settling' : 'settled'} title={`No faults${warnings > 0 ? `, ${count(warnings, 'warning')}` : ''}. This is what it would do; nothing is changed yet.`}>
        Accepting it changes the desired records only. Syncing them to the provider is the next step, and asks again.
      </Notice>
      {list.map((d) => (
        <Taken key={d.zone} defined={d} />
      ))}
    </div>
  )
}

function Done({ list, again }: { list: Applied[]; again: () => void }) {
  return (
    <div className="grid gap-4">
      <Notice light="settled" title={`Accepted: ${count(list.length, 'zone')}.`}>
        Nothing is written to a provider yet. Next: review and sync.
      </Notice>
      {list.map((d) => (
        <div key={d.zone}>
          <Link to={`/domains/${encodeURIComponent(plain(d.zone))}/changes`} className="inline-flex min-h-10 items-center rounded-key bg-action px-4 font-semibold text-on-action hover:bg-action-hover">
            Review and sync {plain(d.zone)} →
          </Link>
        </div>
      ))}
      <div>
        <Key weight="quiet" onClick={again}>
          Apply another definition
        </Key>
      </div>
    </div>
  )
}
