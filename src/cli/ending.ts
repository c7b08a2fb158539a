/** SIGTERM and Ctrl-C stop in order; a second Ctrl-C does not wait. */
export function endInOrder(stop: () => Promise<void>): void {
  let stopping = false
  const end = () => {
    if (stopping) process.exit(1)
    stopping = true
    stop().then(
      () => process.exit(0),
      (error: unknown) => {
        process.stderr.write(`Stopping met a fault: ${(error as Error).message}\n`)
        process.exit(1)
      },
    )
  }
  process.on("SIGTERM", end)
  process.on("SIGINT", end)
}
