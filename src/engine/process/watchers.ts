/** Those who wait here for something that may come at any moment. */
export class Watchers {
  private readonly waiting = new Set<() => void>()

  /** Something may have come: everybody looks. */
  wake(): void {
    for (const look of this.waiting) look()
  }

  /** Resolves when something may have come, when the time is over, or when whoever waits is gone. */
  until(milliseconds: number, gone: AbortSignal): Promise<void> {
    return new Promise((resolve) => {
      const done = () => {
        clearTimeout(timer)
        this.waiting.delete(done)
        gone.removeEventListener("abort", done)
        resolve()
      }
      const timer = setTimeout(done, milliseconds)
      this.waiting.add(done)
      gone.addEventListener("abort", done)
    })
  }
}
