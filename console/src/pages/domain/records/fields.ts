// Record data in the canonical form of the service, taken apart into the fields of its type.
import type { RecordForm } from '../../../api/types'

/** Parts data at blanks outside quotes. */
export function tokens(data: string): string[] {
  const list: string[] = []
  let at = ''
  let quoted = false
  for (let i = 0; i < data.length; i++) {
    const c = data[i]!
    if (c === '\\') {
      at += c + (data[++i] ?? '')
      continue
    }
    if (c === '"') quoted = !quoted
    if (c === ' ' && !quoted) {
      if (at) list.push(at)
      at = ''
    } else at += c
  }
  return at ? [...list, at] : list
}

/** A quoted string as people read it: escaped octets are those of UTF-8. */
export function unquoted(token: string): string {
  const octets: number[] = []
  const inner = token.replace(/^"|"$/g, '')
  for (let i = 0; i < inner.length; i++) {
    if (inner[i] !== '\\') octets.push(inner.charCodeAt(i))
    else if (/^[0-9]{3}$/.test(inner.slice(i + 1, i + 4))) {
      octets.push(Number(inner.slice(i + 1, i + 4)))
      i += 3
    } else octets.push(inner.charCodeAt(++i))
  }
  return new TextDecoder().decode(Uint8Array.from(octets))
}

/** Takes data apart; the inverse is with the service, which judges what was typed. */
export function split(form: RecordForm, data: string): Record<string, string> {
  const parts = tokens(data)
  const values: Record<string, string> = {}
  form.fields.forEach((f, i) => {
    const rest = parts.slice(i)
    switch (f.kind) {
      case 'texts':
        values[f.name] = rest.map(unquoted).join('')
        break
      case 'text':
        values[f.name] = unquoted(parts[i] ?? '')
        break
      case 'rest':
        values[f.name] = rest.join(' ')
        break
      case 'octets':
        values[f.name] = rest.join('')
        break
      default:
        values[f.name] = parts[i] ?? ''
    }
  })
  return values
}
