// Forms: what is typed is checked by a schema before it is sent, and each fault is shown at its field.
import { zodResolver } from '@hookform/resolvers/zod'
import { type ReactNode, useId } from 'react'
import { type FieldPath, type FieldValues, FormProvider, type SubmitHandler, useForm, useFormContext, type UseFormProps } from 'react-hook-form'
import type { $ZodType } from 'zod/v4/core'
import { Key } from './key'

type FormProps<In extends FieldValues, Out> = {
  schema: $ZodType<Out, In>
  values: UseFormProps<In>['defaultValues']
  onSubmit: SubmitHandler<Out & FieldValues>
  children: ReactNode
  className?: string
  label?: string
}

export function Form<In extends FieldValues, Out extends FieldValues>({ schema, values, onSubmit, children, className, label }: FormProps<In, Out>) {
  const form = useForm<In, unknown, Out>({ resolver: zodResolver(schema), defaultValues: values })
  return (
    <FormProvider {...form}>
      <form noValidate onSubmit={form.handleSubmit(onSubmit as SubmitHandler<Out>)} className={className} aria-label={label}>
        {children}
      </form>
    </FormProvider>
  )
}

/** The two keys at the end of a form: what it does, and leaving it. */
export function FormKeys({ action, busy, cancel }: { action: string; busy: boolean; cancel: () => void }) {
  return (
    <div className="flex gap-3">
      <Key type="submit" weight="main" busy={busy}>
        {action}
      </Key>
      <Key weight="quiet" onClick={cancel}>
        Cancel
      </Key>
    </div>
  )
}

export type FieldProps = { name: FieldPath<FieldValues>; label: string; explain?: ReactNode; className?: string }

/** A field with its label, its explanation, and what is wrong with it. */
export function Framed({ id, name, label, explain, className, children }: FieldProps & { id: string; children: ReactNode }) {
  const problem = useFormContext().getFieldState(name, useFormContext().formState).error?.message
  return (
    <div className={className}>
      <label className="label" htmlFor={id}>
        {label}
      </label>
      {children}
      {problem && (
        <p id={id + 'p'} role="alert" className="mt-0.5 text-fine text-alarm">
          {problem}
        </p>
      )}
      {explain && (
        <p id={id + 'x'} className="mt-0.5 text-fine text-soft">
          {explain}
        </p>
      )}
    </div>
  )
}

type InputProps = FieldProps & { data?: boolean; rows?: number; type?: string; placeholder?: string; autoFocus?: boolean; autoComplete?: string; inputMode?: 'numeric'; list?: string[]; masked?: boolean }

export function Input({ data, rows, type, placeholder, autoFocus, autoComplete, inputMode, list, masked, ...field }: InputProps) {
  const id = useId()
  const { register, getFieldState, formState } = useFormContext()
  const invalid = getFieldState(field.name, formState).invalid
  const shared = {
    ...register(field.name), id, placeholder, autoFocus, autoComplete, inputMode, spellCheck: false, autoCapitalize: 'none',
    className: `field ${data ? 'data' : ''} ${masked ? '[-webkit-text-security:disc]' : ''}`, 'aria-invalid': invalid || undefined, 'aria-describedby': [invalid && id + 'p', field.explain && id + 'x'].filter(Boolean).join(' ') || undefined,
  }
  return (
    <Framed id={id} {...field}>
      {rows ? <textarea rows={rows} {...shared} /> : <input type={type} list={list && id + 'l'} {...shared} />}
      {list && (
        <datalist id={id + 'l'}>
          {list.map((v) => (
            <option key={v} value={v} />
          ))}
        </datalist>
      )}
    </Framed>
  )
}
