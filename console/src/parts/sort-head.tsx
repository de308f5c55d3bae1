// The heads of a table's columns: a press sorts by one, another the other way round, a third not at all.
import type { Header } from '@tanstack/react-table'

const signs = { asc: '▲', desc: '▼' }

/** The words and the key of a column's head; the cell around it says how it is sorted. */
export function SortHead<T>({ header }: { header: Header<T, unknown> }) {
  const sorted = header.column.getIsSorted()
  return (
    <button type="button" onClick={header.column.getToggleSortingHandler()} className="inline-flex items-baseline gap-1 rounded-key font-semibold hover:text-ink">
      {String(header.column.columnDef.header)}
      <span aria-hidden="true" className={sorted ? '' : 'opacity-0'}>
        {signs[sorted || 'asc']}
      </span>
    </button>
  )
}

export function sortOf<T>(header: Header<T, unknown>): 'ascending' | 'descending' | 'none' {
  const sorted = header.column.getIsSorted()
  return sorted === 'asc' ? 'ascending' : sorted === 'desc' ? 'descending' : 'none'
}
