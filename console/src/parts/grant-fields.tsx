// The fields of a grant in a form.
import { Input } from './form'
import { Pick } from './form-choices'
import { machineMays, mays } from './grants'

export function GrantFields({ machine = false }: { machine?: boolean }) {
  return (
    <>
      <Pick name="may" label="May" options={machine ? [...machineMays, ...mays] : mays} placeholder="Choose" />
      <Input name="zones" label="Only in zones" data placeholder="all zones" explain="Zones, separated by commas; *.piers.example for all below a name" />
      <div className="grid gap-4 sm:grid-cols-2">
        <Input name="names" label="Only at names" data placeholder="all names" explain="Relative to the zone: www, @ for the apex, *.lab" />
        <Input name="types" label="Only record types" data placeholder="all types" explain="Such as TXT" />
      </div>
    </>
  )
}
