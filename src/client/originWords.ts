/** What a message of ours is that no turn answered with, by where it came from. */
export function originWords(origin: string, author: string | null): string {
  switch (origin) {
    case "relay":
      return author === null ? "Relayed" : `Relayed, from the message ${author}`
    case "notice":
      return author === null ? "A notice" : `A notice of the event ${author}`
    case "alert":
      return "An alert of the service"
    default:
      return "Sent by hand"
  }
}
