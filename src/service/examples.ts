import type { Operation } from "../client/api.ts"

/** What a body may look like, for whoever reads the description. */
export const examples: { [name in Operation]?: object } = {
  "POST /channels": {
    kind: "telegram",
    key: "quay-telegram",
    settings: { receive: "webhook" },
    secrets: { token: "7700900001:made-up-token" },
  },
  "PATCH /channels/{key}": { settings: { perSecond: 20, answerWithin: null } },
  "POST /channels/{key}/call": {
    method: "POST",
    path: "messages",
    fields: { to: "447700900123", text: "Boarding at gate 2." },
    really: true,
  },
  "POST /channels/{key}/say": { from: "447700900123", text: "next crossing to Holm Island" },
  "POST /channels/{key}/learn": { minutes: 10 },
  "POST /channels/{key}/learn/samples": {
    samples: ['POST /in/harbour HTTP/1.1\n\n{"payload":{"who":"447700900123","said":"next crossing?","uid":"a-1"}}'],
  },
  "POST /channels/{key}/learn/agree": {
    name: "harbour-gateway",
    places: { from: "/payload/who", text: "/payload/said", id: "/payload/uid" },
    sending: { address: "{apiBase}/messages", body: "json", send: { to: "{to}", text: "{text}" }, bearer: "apiKey" },
  },
  "POST /profiles": { source: "profile: harbour-gateway\ntitle: Harbour Gateway\n", keep: false },
  "POST /profiles/from-request": {
    name: "harbour-gateway",
    examples: [
      {
        text: 'curl https://harbour.example/v1/messages -H \'X-Api-Key: made-up\' -d \'{"to":"447700900123","text":"Hello"}\'',
        as: "send",
      },
    ],
  },
  "POST /profiles/from-openapi": {
    name: "harbour-gateway",
    document: "openapi: 3.1.0\ninfo: { title: Harbour Gateway, version: '1' }\npaths: {}\n",
  },
  "POST /profiles/test": {
    source: "profile: harbour-gateway\ntitle: Harbour Gateway\n",
    samples: [
      {
        name: "a-text",
        call: 'POST /in/harbour HTTP/1.1\n\n{"who":"447700900123","said":"Hello"}',
        expect: "messages:\n  - text: Hello\n",
      },
    ],
  },
  "POST /bring/{key}/calls": { wait: 20 },
  "POST /bring/{key}/answers": { id: "itk_01k0000000000000000000000a", status: 200, body: "" },
  "POST /bring/{key}/in": {
    id: "itk_01k0000000000000000000000a",
    method: "POST",
    address: "/in/quay-telegram",
    headers: { "content-type": "application/json" },
    body: "e30=",
  },
  "POST /messages": { to: "cnv_01k0000000000000000000000a", text: "The **14:20** boat sails." },
  "PUT /secrets/{name}": { value: "fares-of-the-harbour-office", lane: "test" },
  "PATCH /people/{contact}": { addTags: ["crew"], fields: { cabin: 12 } },
  "POST /people/{contact}/join": { other: "con_01m8fq7zd34ejfty8xhn2k2q0v" },
  "POST /people/{contact}/split": { channel: "quay-sms", address: "+447700900123" },
  "PUT /people/{contact}/block": { blocked: true },
  "POST /conversations/{id}/interviews": { interview: "itv_01m8fq7zd34ejfty8xhn2k2q0v", do: "back" },
  "PUT /conversations/{id}/state": { state: { topic: "lost", seats: 2 } },
  "PATCH /conversations/{id}": { answeredBy: "person" },
  "POST /parked/{id}/edit": { text: "The next boat is at 14:20." },
  "POST /answers": { replies: ["Your bag stands at the quay."], state: { topic: "baggage" } },
  "POST /notices": { type: "claim.reassigned", data: { claim: "L-310", owner: "ines@ferry.example" } },
  "POST /notices/try": { type: "claim.reassigned", data: { claim: "L-310", owner: "ines@ferry.example" } },
  "POST /queues/{name}/lease": { most: 1, wait: 20, seconds: 60 },
  "POST /queues/{name}/finish": {
    lease: "lease_3b0f7a52-6c1e-4d0a-9a57-0c5f1f1f6b21",
    replies: ["Your bag stands at the quay."],
  },
  "POST /queues/{name}/release": { lease: "lease_3b0f7a52-6c1e-4d0a-9a57-0c5f1f1f6b21", after: 30 },
  "POST /queues/{name}/extend": { lease: "lease_3b0f7a52-6c1e-4d0a-9a57-0c5f1f1f6b21", seconds: 120 },
  "POST /looks": { replies: [{ part: "text", text: "Boarding at **gate 2**" }], kinds: ["telegram", "sms"] },
  "POST /bot/check": { folder: "/srv/bots/ferry" },
  "POST /bot/explain": { text: "next crossing to Holm Island", channel: "quay-telegram" },
  "POST /session": { token: "wob_…" },
  "POST /tokens": { name: "laptop-of-ines", role: "reader", days: 30 },
}
