import { ApiError, Client, NoService } from "../client/client.ts"

/** The service this page came from. */
export const service = new Client("")

export function problemText(error: Error): string {
  if (error instanceof ApiError) return `${error.message} ${error.remedy}`.trim()
  if (error instanceof NoService) return "The service does not answer. Try again as soon as it is back."
  return error.message
}
