import { statfs } from "node:fs/promises"

/** How much room the disk that holds the service's home has. */
export interface DiskView {
  /** Bytes. */
  free: number
  /** Whether so little is left that no media are fetched any more. */
  nearlyFull: boolean
}

/** Milliseconds for which a reading is good. */
const goodFor = 5000

/** Tells how full the disk is. A disk that cannot be read counts as one with room. */
export class Disk {
  private last: { at: number; view: DiskView } | undefined

  /** @param least bytes below which the disk counts as nearly full */
  constructor(
    private readonly folder: string,
    private readonly least: number,
  ) {}

  async look(): Promise<DiskView> {
    if (this.last && performance.now() - this.last.at < goodFor) return this.last.view
    const view = await statfs(this.folder).then(
      ({ bavail, bsize }) => ({ free: bavail * bsize, nearlyFull: bavail * bsize < this.least }),
      () => ({ free: Number.MAX_SAFE_INTEGER, nearlyFull: false }),
    )
    this.last = { at: performance.now(), view }
    return view
  }
}
