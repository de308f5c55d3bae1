// Fields of forms that are chosen or ticked.
import { type ReactNode, useId } from 'react'
import { Controller, useFormContext } from 'react-hook-form'
import { Check } from './check'
import { type FieldProps, Framed } from './form'
import { Choice, type Option } from './select'

export function Pick({ options, placeholder, onChosen, ...field }: FieldProps & { options: Option[]; placeholder?: string; onChosen?: (value: string) => void }) {
  const id = useId()
  const { control } = useFormContext()
  return (
    <Framed id={id} {...field}>
      <Controller
        control={control}
        name={field.name}
        render={({ field: f, fieldState }) => (
          <Choice
            id={id}
            value={String(f.value ?? '')}
            options={options}
            placeholder={placeholder}
            invalid={fieldState.invalid}
            describedBy={field.explain ? id + 'x' : undefined}
            onChange={(v) => {
              f.onChange(v)
              onChosen?.(v)
            }}
          />
        )}
      />
    </Framed>
  )
}

export function Tick({ name, children, className }: { name: string; children: ReactNode; className?: string }) {
  const { control } = useFormContext()
  return (
    <Controller
      control={control}
      name={name}
      render={({ field }) => (
        <Check checked={!!field.value} onChange={field.onChange} className={className}>
          {children}
        </Check>
      )}
    />
  )
}
