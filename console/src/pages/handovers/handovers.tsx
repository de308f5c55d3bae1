// All handovers: the open ones by the next moment at which something is due.
import { useState } from 'react'
import { Link } from 'react-router'
import { useWorld } from '../../api/clock'
import { useHandovers } from '../../api/handovers'
import type { HandoverSummary } from '../../api/types'
import { Empty, Key, PageHead, Plate, Shown } from '../../parts/kit'
import { type Light, Tag } from '../../parts/lamp'
import { EmptyHarbour } from '../../parts/pictures'
import { moment, plain } from '../../parts/text'

export function Handovers() {
  const [ended, setEnded] = useState(false)
  const list = useHandovers(ended)
  return (
    <>
      <title>Handovers · Agile Beacon</title>
      <PageHead title="Handovers" lead="Domains that move to other nameservers. Where you are asked for something, it is said here.">
        <Key onClick={() => setEnded(!ended)}>{ended ? 'Show open ones' : 'Show ended ones'}</Key>
      </PageHead>
      <Shown query={list}>
        {(data) => {
          const items = data.pages.flatMap((p) => p.items)
          if (items.length === 0) {
            return (
              <Empty picture={<EmptyHarbour />} title={ended ? 'No handover has ended yet' : 'No domain is being moved'}>
                Open a{' '}
                <Link className="link" to="/domains">
                  domain
                </Link>{' '}
                and choose its view Handover to move it to another provider.
              </Empty>
            )
          }
          return (
            <Plate>
              <List items={items} ended={ended} />
              {list.hasNextPage && (
                <Key className="mt-3" busy={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
                  Show more
                </Key>
              )}
            </Plate>
          )
        }}
      </Shown>
    </>
  )
}

function state(h: HandoverSummary): { light: Light; word: string } {
  if (h.state === 'done') return { light: 'settled', word: 'done' }
  if (h.state === 'abandoned') return { light: 'none', word: 'ended before its end' }
  if (h.state === 'paused') return { light: 'none', word: `paused (${h.phase})` }
  return { light: h.phase === 'ready' || h.phase === 'closing' ? 'settled' : 'settling', word: h.phase }
}

function List({ items, ended }: { items: HandoverSummary[]; ended: boolean }) {
  const now = useWorld(5000)?.now
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Handovers">
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-line text-fine text-soft">
            {['Domain', 'From', 'To', 'Phase', ended ? 'Ended' : 'Next', ended ? '' : 'Asked of you'].map((t, i) => (
              <th key={i} scope="col" className="py-1.5 pr-4 font-semibold">
                {t}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {items.map((h) => {
            const { light, word } = state(h)
            const at = ended ? h.ends : h.next_at
            return (
              <tr key={h.id} className="border-b border-line align-top last:border-0">
                <th scope="row" className="py-2 pr-4 font-semibold wrap-anywhere">
                  <Link className="link" to={`/domains/${encodeURIComponent(plain(h.domain))}/handover`}>
                    {plain(h.domain)}
                  </Link>
                </th>
                <td className="py-2 pr-4">{h.from || '–'}</td>
                <td className="py-2 pr-4">{h.to || '–'}</td>
                <td className="py-2 pr-4">
                  <Tag light={light}>{word}</Tag>
                </td>
                <td className="data py-2 pr-4">{at ? moment(Date.parse(at), now ?? Date.parse(at)) : '–'}</td>
                <td className="py-2">{h.asked}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </div>
  )
}
