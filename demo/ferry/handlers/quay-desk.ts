import { handler } from "wobbet"

/** Somebody wants a person: the quay desk is told, and the bot keeps quiet until it is given the conversation back. */
export default handler(() => ({ replies: "Somebody of the quay desk will answer you here.", leave: "person" }))
