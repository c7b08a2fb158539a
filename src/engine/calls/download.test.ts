import { createServer } from "node:http"
import type { Server } from "node:http"
import { download } from "./download.ts"
import { refusePrivate } from "./privateNetworks.ts"

test.each([
  "127.0.0.1",
  "10.1.2.3",
  "192.168.0.9",
  "172.16.0.1",
  "169.254.169.254",
  "100.64.0.1",
  "0.0.0.0",
  "224.0.0.1",
  "::1",
  "fc00::1",
  "fe80::1",
  "::ffff:127.0.0.1",
  "64:ff9b::7f00:1",
])("%s is never reached, unless its network is named", (address) => {
  expect(() => refusePrivate(address, [])).toThrow("private network")
})

test("networks that are named may be reached, and the public internet may", () => {
  for (const address of ["93.184.216.34", "2606:2800:220:1:248:1893:25c8:1946", "media.example"])
    refusePrivate(address, [])
  refusePrivate("10.1.2.3", ["10.0.0.0/8"])
  refusePrivate("192.168.1.5", ["192.168.1.5"])
  expect(() => refusePrivate("10.1.2.3", ["192.168.0.0/16", "nonsense"])).toThrow("private network")
})

describe("from servers of the machine itself", () => {
  const servers: Server[] = []
  const serve = (
    answer: (url: string, authorization: string | undefined) => [status: number, headers: object, body: string],
  ) =>
    new Promise<string>((resolve) => {
      const server = createServer((request, reply) => {
        const [status, headers, body] = answer(request.url!, request.headers.authorization)
        reply.writeHead(status, headers as { [name: string]: string }).end(body)
      })
      servers.push(server)
      server.listen(0, "127.0.0.1", () => resolve(`http://127.0.0.1:${(server.address() as { port: number }).port}`))
    })
  afterAll(() => servers.forEach((server) => server.close()))

  test("the provider's own address is fetched from wherever it lies; where it sends on to is looked at again", async () => {
    let seen: string | undefined = "nothing"
    const inner = await serve(
      (_url, authorization) => ((seen = authorization), [200, { "content-type": "image/png" }, "secret"]),
    )
    const own = await serve((url) =>
      url === "/away"
        ? [302, { location: `${inner}/x` }, ""]
        : url === "/here"
          ? [302, { location: "/image" }, ""]
          : [200, { "content-type": "image/png; x=1" }, "ok"],
    )
    const get = (path: string, networks: string[] = []) =>
      download(own + path, { authorization: "Bearer t" }, { limit: 100, trusted: [own], networks })
    await expect(get("/here")).resolves.toMatchObject({ mime: "image/png", content: Buffer.from("ok") })
    await expect(get("/away")).rejects.toThrow("private network")
    expect(seen).toBe("nothing")
    // Named, it is reached, and what authorises us elsewhere stays behind.
    await expect(get("/away", ["127.0.0.0/8"])).resolves.toMatchObject({ content: Buffer.from("secret") })
    expect(seen).toBeUndefined()
    await expect(download(`${inner}/x`, {}, { limit: 100, trusted: [own], networks: [] })).rejects.toThrow(
      "private network",
    )
    await expect(download("http://localhost:1/x", {}, { limit: 100, trusted: [], networks: [] })).rejects.toThrow(
      "private network",
    )
  })

  test("no more than the limit is read, and a circle ends", async () => {
    const own = await serve((url) =>
      url === "/circle" ? [302, { location: "/circle" }, ""] : [200, {}, "x".repeat(5000)],
    )
    const options = { limit: 1000, trusted: [own], networks: [] }
    await expect(download(`${own}/big`, {}, options)).rejects.toThrow("larger than")
    await expect(download(`${own}/circle`, {}, options)).rejects.toThrow("from address to address")
    await expect(download("file:///etc/passwd", {}, options)).rejects.toThrow("not an http address")
  })
})
