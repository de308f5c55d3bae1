// What each code of a finding means; the codes on other pages lead here.
import { useEffect, useState } from 'react'
import { useLocation } from 'react-router'
import { PageHead, Plate, Shown } from '../parts/kit'
import { Tag } from '../parts/lamp'
import { blocked, useCodes } from '../parts/meaning'
import { Remedy } from '../parts/remedy-text'

const lights: Record<string, 'alarm' | 'settling' | 'none'> = { error: 'alarm', warning: 'settling', notice: 'none' }

export function FindingsPage() {
  const codes = useCodes()
  const { hash } = useLocation()
  const [text, setText] = useState('')
  const there = codes.data !== undefined
  useEffect(() => {
    if (there && hash) document.getElementById(hash.slice(1))?.scrollIntoView({ block: 'center' })
  }, [there, hash])
  const wanted = text.trim().toLowerCase()
  return (
    <>
      <title>Findings · Agile Beacon</title>
      <PageHead title="Findings" lead="What each code means, what to do, and what it blocks." />
      <label className="mb-4 grid max-w-sm gap-1">
        <span className="label">Find</span>
        <input type="search" value={text} onChange={(e) => setText(e.target.value)} className="field" placeholder="code or words" />
      </label>
      <Shown query={codes} rows={6}>
        {({ items }) => {
          const list = items.filter((k) => wanted === '' || `${k.code} ${k.meaning} ${k.remedy}`.toLowerCase().includes(wanted))
          const about = [...new Set(list.map((k) => k.about))]
          return (
            <div className="grid gap-5">
              {about.length === 0 && <p className="text-soft">No findings match.</p>}
              {about.map((a) => (
                <Plate key={a} title={a}>
                  <dl className="grid gap-3">
                    {list
                      .filter((k) => k.about === a)
                      .map((k) => (
                        <div key={k.code} id={k.code} className={`rounded-key p-2 ${hash === '#' + k.code ? 'bg-settling-wash' : ''}`}>
                          <dt className="flex flex-wrap items-center gap-2">
                            <span className="data font-semibold">{k.code}</span>
                            <Tag light={lights[k.severity] ?? 'settling'}>{k.severity}</Tag>
                          </dt>
                          <dd>{k.meaning}</dd>
                          <dd className="text-soft">
                            → <Remedy text={k.remedy} />
                          </dd>
                          {k.guard && <dd className="text-fine">Blocks {blocked(k.guard)}.</dd>}
                        </div>
                      ))}
                  </dl>
                </Plate>
              ))}
            </div>
          )
        }}
      </Shown>
    </>
  )
}
