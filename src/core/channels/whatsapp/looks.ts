import type { OutgoingCall } from "../call.ts"
import type { Look } from "../looks.ts"
import { contentOf, fieldsOf, listOf, plain, readMarks, textOf } from "../looks.ts"

export function looks(call: OutgoingCall): Look {
  const content = contentOf(call)
  const type = textOf(content.type)
  const inner = fieldsOf(content[type])
  switch (type) {
    case "text":
      return { words: readMarks(textOf(inner.body)) }
    case "interactive": {
      const action = fieldsOf(inner.action)
      const picture = textOf(fieldsOf(fieldsOf(inner.header).image).link)
      const link = fieldsOf(action.parameters)
      const options = [
        ...listOf(action.buttons).map((one) => ({ label: textOf(fieldsOf(one.reply).title), as: "button" as const })),
        ...listOf(action.sections)
          .flatMap((one) => listOf(one.rows))
          .map((row) => ({ label: textOf(row.description) || textOf(row.title), as: "row" as const })),
        ...(link.display_text ? [{ label: textOf(link.display_text), as: "link" as const }] : []),
      ]
      return { words: readMarks(textOf(fieldsOf(inner.body).text)), ...(picture ? { picture } : {}), options }
    }
    case "template":
      return { words: plain(""), with: `the template ${textOf(inner.name)} (${textOf(fieldsOf(inner.language).code)})` }
    case "location":
      return { words: plain(textOf(inner.name)), with: `map ${String(inner.latitude)}, ${String(inner.longitude)}` }
    case "contacts": {
      const [one] = listOf(content.contacts)
      const phone = textOf(listOf(one?.phones)[0]?.phone)
      return { words: plain(`${textOf(fieldsOf(one?.name).formatted_name)} ${phone}`), with: "contact card" }
    }
    case "reaction":
      return { words: [], with: `reacts ${textOf(inner.emoji)}` }
    case "":
      return { words: [], with: call.name === "typing" ? "read ✓✓, typing …" : "read ✓✓" }
    default: {
      const picture = type === "image" ? textOf(inner.link) : ""
      return { words: readMarks(textOf(inner.caption)), ...(picture ? { picture } : { with: type }) }
    }
  }
}
