// Pictures for what is empty, drawn for this console from the same few shapes as its mark.
const stroke = { fill: 'none', strokeWidth: 2, strokeLinecap: 'round', strokeLinejoin: 'round' } as const

function Water({ y }: { y: number }) {
  const wave = 'c5-4 10-4 15 0s10 4 15 0'
  return <path d={`M10 ${y}${wave.repeat(6)}`} {...stroke} className="stroke-deep-400" />
}

/** A harbour without a ship: no domains yet. */
export function EmptyHarbour() {
  return (
    <svg viewBox="0 0 200 96" width="200" height="96" aria-hidden="true">
      <path d="M24 72V44h36v28M30 44V34h6v10M48 44V38h6v6" {...stroke} className="stroke-line-strong" />
      <path d="M70 72h56v-8H70zM78 64v-6M98 64v-6M118 64v-6" {...stroke} className="stroke-line-strong" />
      <path d="M160 72l4-30h8l4 30z" className="fill-deep-300" />
      <circle cx="168" cy="34" r="6" className="fill-lamp-400" />
      <path d="M160 32 138 24M160 36l-22 6" {...stroke} className="stroke-lamp-400" />
      <Water y={80} />
    </svg>
  )
}

/** A buoy on a long chain: no name follows an address yet. */
export function EmptyMooring() {
  return (
    <svg viewBox="0 0 200 96" width="200" height="96" aria-hidden="true">
      <path d="M92 40h16l8 18H84z" className="fill-deep-300" />
      <path d="M100 40V24" {...stroke} className="stroke-line-strong" />
      <circle cx="100" cy="20" r="5" className="fill-lamp-400" />
      <path d="M100 66c10 6-10 10 0 16s-4 8 2 10" {...stroke} strokeDasharray="3 4" className="stroke-line-strong" />
      <Water y={60} />
    </svg>
  )
}

/** An open book without a line: nothing was written down yet. */
export function EmptyBook() {
  return (
    <svg viewBox="0 0 200 96" width="200" height="96" aria-hidden="true">
      <path d="M100 24c-12-8-34-8-48-2v50c14-6 36-6 48 2 12-8 34-8 48-2V22c-14-6-36-6-48 2zM100 24v50" {...stroke} className="stroke-line-strong" />
      <path d="M62 36c8-2 18-2 26 1M62 46c8-2 18-2 26 1" {...stroke} className="stroke-deep-300" />
      <path d="M126 20v22l5-4 5 4V18" className="fill-lamp-400" />
    </svg>
  )
}

/** A chart without a course: no records yet. */
export function EmptyChart() {
  return (
    <svg viewBox="0 0 200 96" width="200" height="96" aria-hidden="true">
      <rect x="50" y="14" width="100" height="68" rx="4" {...stroke} className="stroke-line-strong" />
      <path d="M50 36h100M50 58h100M83 14v68M117 14v68" {...stroke} strokeWidth={1} className="stroke-line" />
      <path d="M60 70c14-4 18-20 34-22s22-14 34-20" {...stroke} strokeDasharray="1 6" strokeWidth={3} className="stroke-deep-400" />
      <circle cx="132" cy="26" r="5" className="fill-lamp-400" />
    </svg>
  )
}
