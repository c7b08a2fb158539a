import { DateTime } from "luxon"
import type { Filling } from "./fillText.ts"
import { faultsOfPlaces, fillText } from "./fillText.ts"
import type { Written } from "./texts.ts"

/** Said to nobody in particular, on Friday 2026-11-27 in Lisbon. */
function filling(given: Partial<Filling>): Filling {
  return {
    values: {},
    texts: {},
    spoken: undefined,
    languages: ["en"],
    country: "GB",
    zone: "Europe/Lisbon",
    now: "2026-11-27T16:00:00Z",
    times: 0,
    opening: () => undefined,
    ...given,
  }
}

const slots = {
  day: "2026-12-04",
  at: "2026-12-04T14:20:00.000+00:00",
  time: "14:20",
  seats: 2,
  place: "Holm *Island*",
  many: 1250.5,
}
const values = { slots, state: { soon: "soon" }, contact: { name: "Leo" } }

test.each<[string, Partial<Filling>, string]>([
  ["{{slots.day}}", {}, "2026-12-04"],
  ["{{slots.day, date, long}}", {}, "4 December 2026"],
  ["{{slots.day, date, full}}", { spoken: "de", languages: ["en", "de"] }, "Freitag, 4. Dezember 2026"],
  ["{{slots.day, date, full}}", { spoken: "de" }, "Friday, 4 December 2026"],
  ["{{slots.day, date, ::MMMMd}}", { languages: ["pt"], country: "PT" }, "4 de dezembro"],
  ["{{slots.at, time, short}}", { zone: "America/New_York" }, "09:20"],
  ["{{slots.time, time, short}}", {}, "14:20"],
  ["{{slots.many, number}}", {}, "1,250.5"],
  ["{{slots.many, number}}", { languages: ["de"], country: "DE" }, "1.250,5"],
  ["{{slots.seats, plural, one {# seat} other {# seats}}}", {}, "2 seats"],
  [
    "{{slots.seats, plural, one {# seat to {{slots.place}}} other {# seats to {{slots.place}} on {{slots.day, date, medium}}}}}.",
    {},
    "2 seats to Holm \\*Island\\* on 4 Dec 2026.",
  ],
  ["{{slots.place, select, here {here} other {there}}}", {}, "there"],
  ["[{{slots.nothing, plural, one {#} other {#}}}]", {}, "[]"],
  ["It's {{contact.name}}'s, {not a place} and '{'", {}, "It's Leo's, {not a place} and '{'"],
])("%s becomes what a person reads", (text, given, said) => {
  expect(fillText(text, filling({ values, ...given }))).toBe(said)
})

test("what cannot be formatted is said as it is, and told", () => {
  const notes: string[] = []
  expect(fillText("On {{state.soon, date, long}} for {{state.soon, number}}", filling({ values }), notes)).toBe(
    "On soon for soon",
  )
  expect(notes).toEqual([
    '{{state.soon, date, long}}: "soon" is no date',
    '{{state.soon, number}}: "soon" is no number',
  ])
})

test("hours are named as people name a time: by the day of the week where that is near", () => {
  const opening = (next: string) => () => ({ next: DateTime.fromISO(next, { zone: "Europe/Lisbon" }) })
  const said = (next: string) => fillText("{{hours.office.next}}", filling({ opening: opening(next) }))
  expect(said("2026-11-28T09:00")).toBe("Saturday 09:00")
  expect(said("2027-01-04T08:00")).toMatch(/^4 January 2027 at 0?8:00$/)
  expect(fillText("{{hours.office.next, date, ::EEEEHmm}}", filling({ opening: opening("2026-11-28T09:00") }))).toMatch(
    /Saturday.*09:00/,
  )
})

const greeting: Written = { en: ["Good day!", "Hello!"], de: "Guten Tag!", "pt-BR": "Oi!" }

test.each<[string | undefined, string[], string]>([
  ["de", ["en"], "Guten Tag!"],
  ["de-CH", ["en"], "Guten Tag!"],
  ["pt-BR", ["en"], "Oi!"],
  ["pt", ["en"], "Oi!"],
  ["fr", ["en"], "Good day!"],
  ["fr", ["de", "en"], "Guten Tag!"],
  [undefined, ["fr"], "Good day!"],
])("somebody who speaks %s, where the bot speaks %j, reads %j", (spoken, languages, said) => {
  expect(fillText(greeting, filling({ spoken, languages }))).toBe(said)
})

test("variants take turns, also in a text that another brings in", () => {
  const texts = { hello: greeting }
  const said = [0, 1, 2].map((times) => fillText("{{texts.hello}} Ask me.", filling({ texts, times })))
  expect(said).toEqual(["Good day! Ask me.", "Hello! Ask me.", "Good day! Ask me."])
  expect(fillText(greeting, filling({ spoken: "de", times: 3 }))).toBe("Guten Tag!")
})

test.each<[string, string]>([
  ["{{slots.day, dat, long}}", "it is none of date, time, number, plural, selectordinal and select"],
  ["{{slots.day, date, lang}}", 'names the style "lang"; there are short, medium, long, full'],
  ["{{slots.seats, plural, one {# seat}}}", "it needs an other {…} at its end"],
  ["{{slots.seats, plural, one {# seat} other {# {{slots.sets}}}}}", "{{slots.sets}} names nothing of slots"],
  ["{{hours.office.nxt}}", "{{hours.office.nxt}} names nothing of the hours"],
  ["{{hours.offce.next}}", "{{hours.offce.next}} names nothing of hours"],
  ["{{texts.hallo}}", "{{texts.hallo}} names nothing of texts"],
  ["{{slots.day, date, long}", "is not closed by }}"],
  [`{{${"slots.day, select, a {{{".repeat(2000)}`, "is not closed by }}"],
  [`${"{{slots.day, select, other {".repeat(30)}${"}}}".repeat(30)}`, "is nested too deeply"],
])("%.60s is a fault", (text, says) => {
  const nameable = { slots: ["day", "seats"], hours: ["office"], texts: { hello: greeting } }
  expect(
    faultsOfPlaces(text, nameable)
      .map((fault) => fault.says)
      .join(),
  ).toContain(says)
})

test("filled-in words are safe inside the markup around them", () => {
  const values = { contact: { name: "*Leo*" }, slots: { n: 2 } }
  expect(fillText("Hi **{{contact.name}}**{{nobody}}, {{slots.n}}", filling({ values }))).toBe("Hi **\\*Leo\\***, 2")
  expect(fillText("{{constructor.name}}", filling({}))).toBe("")
})
