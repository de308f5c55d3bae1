// The mark: a lamp over water, its beam to one side. Its colours are fixed; its ground is deep water in either theme.
export function Mark({ size = 32 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 32 32" aria-hidden="true">
      <path d="M16 10.500 3.500 5.200v10.600z" className="fill-lamp-400" opacity=".38" />
      <path d="M16 10.500 28.500 5.200v10.600z" className="fill-lamp-400" />
      <circle cx="16" cy="10.500" r="3.600" className="fill-lamp-50" />
      <path d="M13.400 16h5.200l2.600 8.600H10.800z" className="fill-deep-300" />
      <path
        d="M5 27.200c1.830-1.600 3.670-1.600 5.500 0s3.670 1.600 5.500 0 3.670-1.600 5.500 0 3.670 1.600 5.500 0"
        className="fill-none stroke-deep-400"
        strokeWidth="1.800"
        strokeLinecap="round"
      />
    </svg>
  )
}
