import { choices, handler } from "wobbet"

export default handler(({ contact }) => ({
  replies: choices(
    [
      `Welcome aboard${contact.name ? `, ${contact.name}` : ""}! This is **Tern Point Ferry**, between Tern Point and Holm Island.`,
      "",
      "- ask for the *next crossing*",
      "- *book seats*",
      "- send a photo of something lost or found",
    ].join("\n"),
    [
      { id: "crossings", label: "Next crossing" },
      { id: "book", label: "Book seats" },
    ],
  ),
}))
