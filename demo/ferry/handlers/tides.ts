import { handler } from "wobbet"

/** The tide office looks it up by hand, which takes longer than some gateways wait. */
export default handler(async () => {
  await new Promise((resolve) => setTimeout(resolve, 4000))
  return { replies: "High water at Tern Point: **05:12** and **17:38**. At Holm Island ten minutes later." }
})
