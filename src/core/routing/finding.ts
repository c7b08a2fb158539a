export type Slots = { [name: string]: string | number }

/** Whether a condition is met, and why or why not, in words. */
export interface Finding {
  met: boolean
  /** Set where that depends on something that is not given; then it is not met. */
  depends?: true
  why: string
  slots: Slots
}

export function met(why: string, slots: Slots = {}): Finding {
  return { met: true, why, slots }
}

export function missed(why: string): Finding {
  return { met: false, why, slots: {} }
}

export function depends(why: string): Finding {
  return { met: false, depends: true, why, slots: {} }
}

export function mergeSlots(findings: Finding[]): Slots {
  return Object.assign({}, ...findings.map((finding) => finding.slots)) as Slots
}
