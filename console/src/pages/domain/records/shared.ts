// What the parts of the records page share.
import type { DraftChange } from '../../../api/types'

/** Changes the draft that is shown; done is called once the service has it. */
export type Change = (change: Partial<DraftChange>, done?: () => void) => void

/** The columns of the table, from a phone's width up. */
export const columns = 'sm:grid-cols-[minmax(8rem,14rem)_5rem_4.5rem_1fr_6.5rem]'
