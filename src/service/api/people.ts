import Joi from "joi"
import type { ForgettingView, PersonWhole } from "../../client/types.ts"
import { personFields } from "../../core/message/personFields.ts"
import { notFound, Trouble } from "../../engine/trouble.ts"
import { record } from "../../store/access.ts"
import { listPeople } from "../../store/conversations.ts"
import type { Database } from "../../store/database.ts"
import type { ForgettingRow } from "../../store/forgetting.ts"
import { firstCall, forgettingById, progressOf } from "../../store/forgetting.ts"
import { joinPeople, personById, splitPerson } from "../../store/people.ts"
import { markContact, setBlocked } from "../../store/tags.ts"
import type { ApiRoute } from "../routes.ts"
import { channelKey, cursorOf, limit, lookedPage, route, tags } from "../routes.ts"

async function personOf(database: Database, contact: string): Promise<PersonWhole> {
  const found = await personById(database, contact)
  if (!found) throw notFound("person", contact, 'List them with "wobbet contact list".')
  return { ...found, blockedAt: found.blockedAt?.toISOString() ?? null }
}

async function forgettingView(database: Database, row: ForgettingRow): Promise<ForgettingView> {
  const { id, contact, askedBy, askedAt, endedAt, removed } = row
  return {
    id,
    contact,
    askedBy,
    askedAt: askedAt.toISOString(),
    endedAt: endedAt?.toISOString() ?? null,
    progress: progressOf(row, (await firstCall(database)) ?? askedAt),
    removed: { said: 0, answered: 0, media: 0, calls: 0, interviews: 0, conversations: 0, ...removed },
  }
}

export const peopleRoutes: ApiRoute[] = [
  route("GET /people", {
    summary: "Everybody who ever spoke, with the provider's id of each",
    role: "reader",
    query: Joi.object({
      channel: channelKey,
      tag: Joi.string().max(60).description("a tag of theirs"),
      text: Joi.string().max(200).description("part of a name, or an id"),
      limit,
      cursor: cursorOf(/^[a-z0-9][a-z0-9-]{0,62} .+$/s),
    }),
    answers: "A page of people, by channel and id.",
    handle: async ({ engine, query }) => {
      const { cursor: after, ...filter } = query
      return lookedPage(await listPeople(engine.reading, { ...filter, ...(after ? { after } : {}) }))
    },
  }),
  route("PATCH /people/{contact}", {
    summary: "Tag a person, or set fields that a bot's conditions and texts may name",
    role: "operator",
    body: Joi.object({
      addTags: tags,
      removeTags: tags,
      fields: personFields.description("by name; null removes one"),
    }).min(1),
    answers: "The person's tags and fields as they are now.",
    troubles: ["not-found"],
    handle: async ({ engine, params, body, by }) => {
      const { addTags: add = [], removeTags: remove = [], fields } = body
      const contact = params.contact!
      const marked = await markContact(engine.database, contact, { add, remove, ...(fields ? { fields } : {}) })
      if (!marked) throw notFound("person", contact, 'List them with "wobbet conversation list --people".')
      await record(engine.database, by, "person tagged", { contact, add, remove, fields: Object.keys(fields ?? {}) })
      return { contact, ...marked }
    },
  }),
  route("GET /people/{contact}", {
    summary: "One person: addresses, tags, fields, conversations and interviews",
    role: "reader",
    answers: "The person.",
    handle: async ({ engine, params }) => personOf(engine.reading, params.contact!),
  }),
  route("POST /people/{contact}/join", {
    summary: "Make two people one, known on several channels",
    role: "operator",
    body: Joi.object({ other: Joi.string().max(60).required().description("the contact that becomes this one") }),
    answers: "The person as they are now.",
    troubles: ["not-found", "bad-input"],
    handle: async ({ engine, params, body, by }) => {
      const contact = params.contact!
      if (contact === body.other)
        throw new Trouble("bad-input", "A person cannot be joined with themselves.", "Name two contacts.", "other")
      if (!(await joinPeople(engine.database, contact, body.other)))
        throw notFound("person", `${contact} or ${body.other}`, 'List them with "wobbet contact list".')
      await record(engine.database, by, "people joined", { contact, other: body.other })
      await engine.bell.ringHereFirst("people")
      return personOf(engine.database, contact)
    },
  }),
  route("POST /people/{contact}/split", {
    summary: "Take an address away from a person: whoever is behind it is somebody else from now on",
    role: "operator",
    body: Joi.object({ channel: channelKey.required(), address: Joi.string().max(500).required() }),
    answers: "The new person.",
    troubles: ["not-found"],
    handle: async ({ engine, params, body, by }) => {
      const contact = params.contact!
      const made = await splitPerson(engine.database, contact, body)
      if (made === undefined)
        throw notFound("address", `${body.address} on ${body.channel}`, `See them with: wobbet contact show ${contact}`)
      await record(engine.database, by, "person split", { contact, made, channel: body.channel })
      await engine.bell.ringHereFirst("people")
      return personOf(engine.database, made)
    },
  }),
  route("PUT /people/{contact}/block", {
    summary: "Block a person: nothing of theirs is handled or answered until that is lifted",
    role: "operator",
    body: Joi.object({ blocked: Joi.boolean().required() }),
    answers: "Since when the person is blocked.",
    troubles: ["not-found"],
    handle: async ({ engine, params, body, by }) => {
      const contact = params.contact!
      const blockedAt = await setBlocked(engine.database, contact, body.blocked)
      if (blockedAt === undefined)
        throw notFound("person", contact, 'List them with "wobbet conversation list --people".')
      await record(engine.database, by, body.blocked ? "person blocked" : "person unblocked", { contact })
      await engine.bell.ringHereFirst("people")
      return { contact, blockedAt: blockedAt?.toISOString() ?? null }
    },
  }),
  route("POST /people/{contact}/code", {
    summary: "Make a code: whoever says it on another channel within ten minutes is this person, there too",
    role: "operator",
    answers: "The code, shown this once, and until when it counts. Five wrong ones end it.",
    troubles: ["not-found"],
    handle: async ({ engine, params, by }) => {
      const contact = params.contact!
      const made = await engine.joining.code(contact, by)
      if (!made) throw notFound("person", contact, 'List them with "wobbet contact list".')
      return { contact, code: made.code, until: made.until.toISOString() }
    },
  }),
  route("POST /people/{contact}/forget", {
    summary: "Forget a person: everything they said and was answered, and what is remembered of them",
    role: "developer",
    answers: "How far that is. The person is unknown at once; the record is looked through piece by piece.",
    troubles: ["not-found"],
    handle: async ({ engine, params, by }) => {
      const begun = await engine.forgetting.begin(params.contact!, by)
      if (!begun) throw notFound("person", params.contact!, 'List them with "wobbet contact list".')
      return forgettingView(engine.reading, begun)
    },
  }),
  route("GET /forgettings/{id}", {
    summary: "How far a forgetting is, and what it has removed",
    role: "reader",
    answers: "The forgetting.",
    handle: async ({ engine, params }) => {
      const found = await forgettingById(engine.database, params.id!)
      if (!found) throw notFound("forgetting", params.id!, "Its id stands in the answer to the request that began it.")
      return forgettingView(engine.reading, found)
    },
  }),
]
