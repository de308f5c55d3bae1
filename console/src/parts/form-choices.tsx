// Fields of forms that are chosen or ticked.
import { type ReactNode, useId } from 'react'
import { Controller, useFormContext } from 'react-hook-form'
import { Check } from './check'
import { type FieldProps, Framed } from './form'
import { Choice, type Option } from './select'

export function Pick({ options, placeholder, fallback = '', onChosen, ...field }: FieldProps & { options: Option[]; placeholder?: string; fallback?: string; onChosen?: (value: string) => void }) {
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
            value={String(f.value || fallback)}
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

/** Boxes of which several can be ticked. */
export function Several({ name, options }: { name: string; options: string[] }) {
  const { control } = useFormContext()
  return (
    <Controller
      control={control}
      name={name}
      render={({ field, fieldState }) => {
        const chosen = (field.value as string[] | undefined) ?? []
        return (
          <>
            {options.map((o) => (
              <Check key={o} checked={chosen.includes(o)} onChange={(yes) => field.onChange(yes ? [...chosen, o] : chosen.filter((c) => c !== o))}>
                {o}
              </Check>
            ))}
            {fieldState.error && (
              <p role="alert" className="text-alarm">
                {fieldState.error.message}
              </p>
            )}
          </>
        )
      }}
    />
  )
}
