import { handler } from "wobbet"

/** Whatever is being asked is left with this word; here it is said when nothing is. */
export default handler(() => "There was nothing to cancel.")
