/** Where the stand-ins of the demo listen. */
export const standinPort = 4290
export const officePort = 4291

export interface StandinOptions {
  port: string
  officePort: string
  others?: boolean
  service: string
}
