import type { MadeRecord } from "./record.ts"

/** Something a page or a command asks the API for, by its name in the table. */
export interface Asked {
  name: string
  path: string
}

/** How long each list took, in milliseconds, with a small record and with a large one. */
export interface ListTimes {
  small: number
  large: number
  months: number
  times: { name: string; small: number; large: number }[]
}

/** Every list and search of the API, with what is common, rare and large in a made-up record. */
export function listsOf(record: MadeRecord, known: { message: string; passage: string; cursors: Cursors }): Asked[] {
  const { large, common, rare, busy, still, day } = record
  const nextDay = new Date(day.getTime() + 86_400_000)
  const { cursors } = known
  const messages = (name: string, query: string): Asked => ({ name: `messages ${name}`, path: `/messages?${query}` })
  return [
    messages("newest", ""),
    messages("next page", `cursor=${cursors.messages}`),
    messages("a year back", `cursor=${cursors.deep}`),
    messages("of the busy channel", `channel=${busy}`),
    messages("of the still channel", `channel=${still}`),
    messages("of the large conversation", `conversation=${large}`),
    messages("in", "direction=in"),
    messages("of one day", `from=${day.toISOString()}&to=${nextDay.toISOString()}`),
    ...["text", "choice", "location", "reaction"].map((event) => messages(`event ${event}`, `event=${event}`)),
    ...statuses.map((status) => messages(`status ${status}`, `status=${encodeURIComponent(status)}`)),
    messages("status failed, of the still channel", `status=failed&channel=${still}`),
    messages("doubtful", "doubtful=true"),
    messages("not doubtful", "doubtful=false"),
    messages("a common word", `text=${common}`),
    messages("two common words", `text=${common}%20island`),
    messages("a rare word", `text=${rare}`),
    messages("a word nobody said", "text=zeppelin"),
    messages("the beginning of a word", "text=cr"),
    messages("???", `text=${encodeURIComponent("???")}`),
    messages("!!!", `text=${encodeURIComponent("!!!")}`),
    messages("a common word on one day", `text=${common}&from=${day.toISOString()}&to=${nextDay.toISOString()}`),
    messages("a common word in the still channel", `text=${common}&channel=${still}`),
    { name: "one message", path: `/messages/${known.message}` },
    { name: "the large conversation", path: `/conversations/${large}/messages` },
    { name: "the large conversation, far back", path: `/conversations/${large}/messages?cursor=50` },
    { name: "conversations newest", path: "/conversations" },
    { name: "conversations next page", path: `/conversations?cursor=${cursors.conversations}` },
    { name: "conversations of the still channel", path: `/conversations?channel=${still}` },
    { name: "conversations by a rare name", path: "/conversations?text=Okonkwo" },
    { name: "conversations by a common name", path: "/conversations?text=Person" },
    { name: "conversations by a short name", path: "/conversations?text=zq" },
    { name: "one conversation", path: `/conversations/${large}` },
    { name: "people", path: "/people" },
    { name: "people by a rare name", path: "/people?text=Okonkwo" },
    { name: "people by a common name", path: "/people?text=Person" },
    { name: "people by a name nobody has", path: "/people?text=Zeppelin" },
    { name: "people by a short name", path: "/people?text=zq" },
    { name: "people by address", path: "/people?text=44797" },
    { name: "passages newest", path: "/passages" },
    { name: "passages a year back", path: `/passages?cursor=${cursors.passages}` },
    { name: "passages of the still channel", path: `/passages?channel=${still}` },
    { name: "passages with messages", path: "/passages?quiet=false" },
    { name: "passages refused", path: "/passages?genuine=false" },
    { name: "passages refused, of a channel", path: `/passages?genuine=false&channel=${busy}` },
    { name: "passages refused, of the still channel", path: `/passages?genuine=false&channel=${still}` },
    { name: "one passage", path: `/passages/${known.passage}` },
    { name: "parked", path: "/parked" },
    { name: "parked, decided too", path: "/parked?open=false" },
    { name: "parked of the still channel", path: `/parked?channel=${still}` },
    { name: "parked of the still channel, decided too", path: `/parked?open=false&channel=${still}` },
    { name: "channels", path: "/channels" },
    { name: "one channel", path: `/channels/${busy}` },
  ]
}

export interface Cursors {
  messages: string
  deep: string
  conversations: string
  passages: string
}

const statuses = [
  ...["waiting", "handled", "unrouted", "passed over", "retrying", "parked", "dropped", "own", "opted out"],
  ...["sending", "sent", "delivered", "read", "failed"],
]
