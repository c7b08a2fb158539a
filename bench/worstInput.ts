/**
 * The worst that strangers and persons can send, at any length: what it is called, and how it is made. Each is one that
 * a careless reader takes time with that grows faster than the text.
 */
export const worstTexts: { [name: string]: (length: number) => string } = {
  "asterisks and underscores": repeat("*_"),
  "openings of links": repeat("["),
  "links to mentions without an end": repeat("[a](mention:"),
  "headings and marks": repeat("# "),
  "links without an end": repeat("[a]("),
  "titles without an end": repeat('[a](b "'),
  "pictures in pictures": repeat("![[]()"),
  "quotes in quotes": repeat("> "),
  "lists in lists": repeat("- "),
  "numbers of lists": repeat("9) "),
  backslashes: repeat("\\"),
  "ends of links": repeat("]"),
  "pointed brackets": repeat("<"),
  "addresses without an end": repeat("<a:b"),
  ampersands: repeat("&"),
  "mentions followed by blanks": (length) => `<@U1>${" ".repeat(length)}x`,
  mentions: repeat("<@U1> "),
  "marks of a time": repeat("<!date^1^{date}|"),
  blanks: (length) => `a${" ".repeat(length)}b`,
  "line ends": repeat("\n"),
  "blank lines with blanks": repeat(" \n"),
  "backquotes, more and more": (length) =>
    Array.from({ length: Math.floor(Math.sqrt(length)) }, (_, n) => `${"`".repeat(n + 1)}a`)
      .join("")
      .slice(0, length),
  fences: repeat("```\n"),
  digits: repeat("1"),
  "plus signs and digits": repeat("+1 "),
  slashes: repeat("/"),
  commands: repeat("/a@b "),
  "at signs": repeat("a@"),
  dots: repeat("a."),
  "full stops without an end": (length) => `${".".repeat(length)}x`,
  "exclamation marks in a word": (length) => `${"!".repeat(length)}x`,
  "a full stop and quotation marks": (length) => `.${"'".repeat(length)}x`,
  "line ends and a word": (length) => `${"\n".repeat(length)}x`,
  "joined emoji": repeat("👩‍"),
  flags: repeat("🇵"),
  "marks above marks": (length) => `a${"\u0301".repeat(length)}`,
  "halves of characters": repeat("\ud83d"),
  "right to left": repeat("\u202e"),
  "words that a route asks for": repeat("next crossing "),
  "almost the words of a route": repeat("next next "),
}

function repeat(piece: string): (length: number) => string {
  return (length) => piece.repeat(Math.ceil(length / piece.length)).slice(0, length)
}

/** Bodies that are hard to read, whatever they are said to be; most are not what they seem. */
export const worstBodies: { [name: string]: (length: number) => string } = {
  "lists in lists": repeat("["),
  "lists in lists that end": (length) => "[".repeat(length / 2) + "]".repeat(length / 2),
  "objects in objects": repeat('{"a":'),
  "objects in objects that end": (length) => '{"a":'.repeat(length / 6) + "1" + "}".repeat(length / 6),
  "NUL deep in objects": (length) =>
    `{"a":"${"x".repeat(Math.max(0, length - 600))}","b":${'{"a":'.repeat(60)}"\\u0000"${"}".repeat(61)}`,
  "many small lists": (length) => `[${"[],".repeat(length / 3)}[]]`,
  "many keys": (length) =>
    `{${Array.from({ length: length / 14 }, (_, n) => `"k${n}":1`).join(",")}}`.slice(0, Math.max(2, length)),
  "one key again and again": (length) => `{${'"a":1,'.repeat(length / 6)}"a":1}`,
  "long numbers": (length) => `[${"1234567890123456789,".repeat(length / 20)}1]`,
  "one long number": (length) => `[${"1".repeat(length)}]`,
  escapes: (length) => `"${"\\u0000".repeat(length / 6)}"`,
  "halves of characters": (length) => `["${"\\ud83d".repeat(length / 6)}"]`,
  quotes: repeat('"'),
  backslashes: (length) => `"${"\\\\".repeat(length / 2)}"`,
  "a text without an end": (length) => `{"a":"${"x".repeat(length)}`,
  blanks: repeat(" "),
  fields: repeat("a&"),
  "fields of one name": repeat("a=1&"),
  "equals signs": repeat("="),
  "percent signs": repeat("%"),
  "percent escapes": repeat("%00"),
  "plus signs": repeat("+"),
  "elements in elements": repeat("<a>"),
  "elements in elements that end": (length) => "<a>".repeat(length / 7) + "</a>".repeat(length / 7),
  "elements side by side": (length) => `<r>${"<a/>".repeat(length / 4)}</r>`,
  attributes: (length) => `<r ${Array.from({ length: length / 8 }, (_, n) => `a${n}=""`).join(" ")}/>`,
  entities: (length) => `<r>${"&amp;".repeat(length / 5)}</r>`,
  comments: repeat("<!--"),
  instructions: repeat("<?a"),
  sections: repeat("<![CDATA["),
  "pointed brackets": repeat("<"),
}

/** A call's body in which a person says a text. */
export function bodyWith(kind: string, text: string): string {
  switch (kind) {
    case "telegram": {
      const from = { id: 1, is_bot: false, first_name: "Ines" }
      const message = { message_id: 1, date: 1, chat: { id: 1, type: "private" }, from, text }
      return JSON.stringify({ update_id: 1, message })
    }
    case "whatsapp": {
      const said = { from: "447700900123", id: "wamid.1", timestamp: "1", type: "text", text: { body: text } }
      const value = { metadata: { phone_number_id: "1" }, contacts: [], messages: [said] }
      return JSON.stringify({
        object: "whatsapp_business_account",
        entry: [{ id: "1", changes: [{ field: "messages", value }] }],
      })
    }
    case "messenger": {
      const messaging = [{ sender: { id: "2" }, recipient: { id: "1" }, timestamp: 1, message: { mid: "m", text } }]
      return JSON.stringify({ object: "page", entry: [{ id: "1", time: 1, messaging }] })
    }
    case "slack": {
      const event = { type: "app_mention", channel: "C1", user: "U2", text: `<@U1>${text}`, ts: "1.1" }
      return JSON.stringify({ type: "event_callback", team_id: "T1", event_id: "E1", event })
    }
    case "sms":
      return new URLSearchParams({ From: "+447700900123", To: "+447700900100", Body: text.toWellFormed() }).toString()
    default:
      return JSON.stringify({ from: "+447700900123", to: "+447700900100", text, id: "a" })
  }
}
