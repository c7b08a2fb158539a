import { GroupCommit, keepHalving, NotInTime } from "./groupCommit.ts"

/** A gatherer whose batches end when they are told to. */
function held(most = 10, atOnce = 1) {
  const batches: { items: number[]; end: (fault?: Error) => void }[] = []
  const gatherer = new GroupCommit<number, string>(
    (items) =>
      new Promise((done, fail) => {
        batches.push({ items, end: (fault) => (fault ? fail(fault) : done(items.map((item) => `kept ${item}`))) })
      }),
    most,
    atOnce,
  )
  const begun = () => batches.map((batch) => batch.items)
  return { gatherer, batches, begun }
}

const instant = () => new Promise((resolve) => setImmediate(resolve))

test("alone, an item goes at once; those of the same instant go together", async () => {
  const { gatherer, batches, begun } = held()
  const alone = gatherer.add(1)
  await instant()
  expect(begun()).toEqual([[1]])
  batches[0]!.end()
  expect(await alone).toBe("kept 1")
  const both = [gatherer.add(2), gatherer.add(3)]
  await instant()
  expect(begun()).toEqual([[1], [2, 3]])
  batches[1]!.end()
  expect(await Promise.all(both)).toEqual(["kept 2", "kept 3"])
})

test("what comes while a batch is under way waits for the next, not more than fits in one", async () => {
  const { gatherer, batches, begun } = held(2)
  const all = [gatherer.add(1)]
  await instant()
  all.push(gatherer.add(2), gatherer.add(3), gatherer.add(4))
  await instant()
  expect(begun()).toEqual([[1]])
  expect(gatherer.backlog).toBe(3)
  batches[0]!.end()
  await instant()
  expect(begun()).toEqual([[1], [2, 3]])
  batches[1]!.end()
  await instant()
  batches[2]!.end()
  expect(await Promise.all(all)).toEqual(["kept 1", "kept 2", "kept 3", "kept 4"])
})

test("where two batches may be under way, a second one begins beside the first", async () => {
  const { gatherer, batches, begun } = held(10, 2)
  const all = [gatherer.add(1)]
  await instant()
  all.push(gatherer.add(2))
  await instant()
  all.push(gatherer.add(3))
  await instant()
  expect(begun()).toEqual([[1], [2]])
  batches[1]!.end()
  await instant()
  expect(begun()).toEqual([[1], [2], [3]])
  batches[0]!.end()
  batches[2]!.end()
  expect(await Promise.all(all)).toEqual(["kept 1", "kept 2", "kept 3"])
})

test("a batch that fails fails for each of its items, and for no other", async () => {
  const { gatherer, batches } = held()
  const first = [gatherer.add(1), gatherer.add(2)]
  await instant()
  const second = gatherer.add(3)
  batches[0]!.end(new Error("the database is away"))
  for (const one of first) await expect(one).rejects.toThrow("the database is away")
  await instant()
  batches[1]!.end()
  expect(await second).toBe("kept 3")
})

test("it is drained once nothing waits and nothing is under way", async () => {
  const { gatherer, batches } = held(1)
  void gatherer.add(1)
  void gatherer.add(2)
  let drained = false
  void gatherer.drained().then(() => (drained = true))
  await instant()
  batches[0]!.end()
  await instant()
  expect(drained).toBe(false)
  batches[1]!.end()
  await instant()
  expect(drained).toBe(true)
  await gatherer.drained()
})

test("who waited as long as they could is told so, and what was not begun by then is left out", async () => {
  const { gatherer, batches, begun } = held()
  const under = gatherer.add(1, 20)
  await instant()
  const late = gatherer.add(2, 20)
  await expect(under).rejects.toThrow(NotInTime)
  await expect(late).rejects.toThrow(NotInTime)
  const patient = gatherer.add(3)
  batches[0]!.end()
  await instant()
  expect(begun()).toEqual([[1], [3]])
  batches[1]!.end()
  expect(await patient).toBe("kept 3")
})

test("one item that cannot be kept for its data stands alone in the end; any other fault is passed on", async () => {
  const kept: number[] = []
  const alone: number[] = []
  const refuse = (code: string) => async (items: number[]) => {
    if (items.includes(5)) throw Object.assign(new Error("no"), { code })
    kept.push(...items)
  }
  await keepHalving([1, 2, 3, 4, 5, 6, 7], refuse("22P05"), async (item) => void alone.push(item))
  expect({ kept, alone }).toEqual({ kept: [1, 2, 3, 4, 6, 7], alone: [5] })
  await expect(keepHalving([5, 6], refuse("08006"), async () => undefined)).rejects.toMatchObject({ code: "08006" })
})
