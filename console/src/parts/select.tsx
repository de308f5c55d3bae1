// A choice of one among several.
import { Select } from 'radix-ui'
import { nonce } from './nonce'

export type Option = { value: string; label?: string; explain?: string }

type ChoiceProps = { id: string; value: string; options: Option[]; onChange: (value: string) => void; placeholder?: string; invalid?: boolean; describedBy?: string; data?: boolean }

/** Stands for the empty value, which the primitive keeps for "nothing chosen". */
const nothing = '\u0000'
const inside = (value: string) => (value === '' ? nothing : value)

export function Choice({ id, value, options, onChange, placeholder, invalid, describedBy, data }: ChoiceProps) {
  const known = options.some((o) => o.value === value)
  return (
    <Select.Root value={known ? inside(value) : ''} onValueChange={(v) => onChange(v === nothing ? '' : v)}>
      <Select.Trigger id={id} aria-invalid={invalid || undefined} aria-describedby={describedBy} className={`field flex items-center justify-between gap-2 text-left ${data ? 'data' : ''}`}>
        <Select.Value placeholder={placeholder} />
        <Select.Icon className="text-soft">▾</Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content position="popper" sideOffset={4} collisionPadding={8} className="plate z-30 max-h-(--radix-select-content-available-height) min-w-(--radix-select-trigger-width) overflow-hidden">
          <Select.Viewport nonce={nonce} className="p-1">
            {options.map((o) => (
              <Select.Item
                key={o.value}
                value={inside(o.value)}
                className="flex cursor-pointer items-baseline gap-2 rounded-key px-2.5 py-1.5 outline-none data-[highlighted]:bg-sunken data-[state=checked]:font-semibold"
              >
                <Select.ItemText>{o.label ?? o.value}</Select.ItemText>
                {o.explain && <span className="text-fine font-normal text-soft">{o.explain}</span>}
                <Select.ItemIndicator className="ml-auto text-accent">✓</Select.ItemIndicator>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  )
}
