/** One request of a HAR file (HAR 1.2), and the entry it came from with no more than is needed to read it. */
export interface HarRequest {
  /** From 1, as people count. */
  n: number
  method: string
  url: string
  entry: string
}

/** Characters of an answer that are kept, and of a body. */
const kept = { answer: 20_000, body: 400_000 }
const files = /\.(js|css|png|jpe?g|gif|svg|woff2?|ico|map|webp)(\?|$)/i

/** The requests of a HAR file; undefined where the text is none. What a page loads for its looks is left out. */
export function harRequests(text: string): HarRequest[] | undefined {
  if (!text.trimStart().startsWith("{")) return undefined
  let har: unknown
  try {
    har = JSON.parse(text)
  } catch {
    return undefined
  }
  const entries = (har as { log?: { entries?: unknown } }).log?.entries
  if (!Array.isArray(entries)) return undefined
  return entries.flatMap((entry: unknown, at): HarRequest[] => {
    const { request, response } = (entry ?? {}) as { request?: Request; response?: Response }
    if (typeof request?.url !== "string" || typeof request.method !== "string") return []
    if (request.method === "OPTIONS" || files.test(request.url)) return []
    const { method, url, headers, postData } = request
    const answer = typeof response?.content?.text === "string" ? response.content.text.slice(0, kept.answer) : undefined
    const posted = postData && { ...postData, ...(postData.text ? { text: postData.text.slice(0, kept.body) } : {}) }
    const small = { request: { method, url, headers, postData: posted }, response: { content: { text: answer } } }
    return [{ n: at + 1, method, url, entry: JSON.stringify(small) }]
  })
}

interface Request {
  method?: unknown
  url?: unknown
  headers?: unknown
  postData?: { text?: string }
}

interface Response {
  content?: { text?: unknown }
}
