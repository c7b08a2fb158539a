import { handler, text } from "wobbet"
import { reportFound } from "../office"

export default handler(async ({ message, contact }) => {
  const photos = message.media?.filter((one) => one.kind === "image") ?? []
  const { claim } = await reportFound({ ref: photos[0]!.ref, by: contact.name ?? "somebody", note: message.text ?? "" })
  const many = photos.length > 1 ? `your ${photos.length} photos` : "the photo"
  return {
    replies: text(
      `Thank you for ${many}. The lost property desk has it as claim **${claim}** and will write to you here.`,
      message.providerId ? { replyTo: message.providerId } : {},
    ),
  }
})
