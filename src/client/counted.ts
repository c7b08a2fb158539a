/** A number with what it counts: "1 message", "2 messages". */
export function counted(number: number, one: string, several = `${one}s`): string {
  return `${number} ${number === 1 ? one : several}`
}
