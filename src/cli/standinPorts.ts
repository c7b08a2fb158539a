/** Where the demo listens: all of it follows one number, so that a second demo runs beside the first. */
export interface DemoPorts {
  service: number
  telegram: number
  office: number
  model: number
  elsewhere: { whatsapp: number; messenger: number; slack: number; sms: number; beacon: number; buoy: number }
}

/** The service's usual port. */
export const usualBase = 4180

/** The stand-ins' ports stand this far above the service's; `scripts/run.mjs` looks whether they are free. */
const above = 110

export function demoPorts(base = usualBase): DemoPorts {
  const at = (n: number) => base + above + n
  return {
    service: base,
    telegram: at(0),
    office: at(1),
    model: at(8),
    elsewhere: { whatsapp: at(2), messenger: at(3), slack: at(4), sms: at(5), beacon: at(6), buoy: at(7) },
  }
}

export interface StandinOptions {
  port: string
  officePort: string
  others?: boolean
  service: string
}
