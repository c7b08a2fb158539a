const two = (value: number) => String(value).padStart(2, "0")

export function clock(time: string): string {
  const at = new Date(time)
  return `${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`
}

/** Today's times by the clock, others with their day. */
export function when(time: string | null | undefined): string {
  if (!time) return "–"
  const at = new Date(time)
  if (at.toDateString() === new Date().toDateString()) return clock(time)
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} ${clock(time)}`
}

/** A length of time in the two units that matter. */
export function span(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`
  const seconds = ms / 1000
  if (seconds < 60) return `${seconds.toFixed(seconds < 10 ? 1 : 0)} s`
  const minutes = Math.floor(seconds / 60)
  if (minutes < 60) return `${minutes} min ${Math.round(seconds % 60)} s`
  const hours = Math.floor(minutes / 60)
  if (hours < 24) return `${hours} h ${minutes % 60} min`
  return `${Math.floor(hours / 24)} d ${hours % 24} h`
}
