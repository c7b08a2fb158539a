import { handler } from "wobbet"

/** The fog sensor at the pier head is broken, as every page should be able to show. */
export default handler(async () => {
  const sensor = await readSensor()
  return { replies: `Fog at the pier head: ${sensor.visibility.toFixed(0)} m.` }
})

async function readSensor(): Promise<{ visibility: number }> {
  return JSON.parse('{ "status": "no reading" }') as { visibility: number }
}
