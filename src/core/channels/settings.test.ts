import { readSecrets, readSettings } from "./settings.ts"
import { telegram } from "./telegram/index.ts"

const read = (given: object) => readSettings(telegram, given as { [name: string]: unknown })

test("what is left out has its default", () => {
  expect(read({}).value).toEqual({
    apiBase: "https://api.telegram.org",
    receive: "webhook",
    onDoubt: "park",
    answerBots: false,
    mediaLimit: 25,
    mediaPerDay: 1000,
  })
})

test("text from a command line is read as what it means", () => {
  expect(
    read({ perSecond: "2.5", answerBots: "true", pauseBetween: "2,6", answerWithin: "10m", gather: "" }).value,
  ).toMatchObject({
    perSecond: 2.5,
    answerBots: true,
    pauseBetween: [2, 6],
    answerWithin: "10m",
  })
})

test.each([
  [{ colour: "red" }, "colour", '"colour" is not known here'],
  [{ receive: "pigeon" }, "receive", "must be one of"],
  [{ apiBase: "ftp://x" }, "apiBase", "uri"],
  [{ perSecond: 0 }, "perSecond", "positive"],
  [{ answerWithin: "soon" }, "answerWithin", "not a length of time"],
  [{ pauseBetween: [6, 2] }, "", "the smaller first"],
  [{ alertTo: "somebody" }, "alertTo", "alertTo is a conversation"],
])("%j is refused at %s: %s", (given, field, says) => {
  const { fault } = read(given)
  expect(fault!.field).toBe(field)
  expect(fault!.says).toContain(says)
})

test("a secret that cannot be right is refused without being repeated", () => {
  const { fault } = readSecrets(telegram, { token: "my-secret-word" })
  expect(fault).toMatchObject({ field: "token", says: expect.stringContaining("a bot token is digits") as unknown })
  expect(JSON.stringify(fault)).not.toContain("my-secret-word")
})
