import type { MessageView } from "../../client/types.ts"

/** The pictures, sounds and files that came with a message. */
export function Kept({ message }: { message: MessageView }) {
  if (!message.kept?.length) return null
  return (
    <span className="mt-1 flex flex-wrap gap-2">
      {message.kept.map((one) => (
        <Piece key={one.n} piece={one} />
      ))}
    </span>
  )
}

function Piece({ piece }: { piece: NonNullable<MessageView["kept"]>[number] }) {
  const { state, hash, mime = "", size = 0, why } = piece
  if (state !== "kept" || hash === undefined) {
    return (
      <span className={`text-xs ${state === "failed" ? "text-damson" : "text-quiet"}`}>
        {state === "failed"
          ? `✕ not fetched: ${why ?? "it could not be fetched"}`
          : `◐ being fetched${why ? `: ${why}` : ""}`}
      </span>
    )
  }
  const address = `/api/v1/media/${hash}`
  const words = `${mime}, ${sizeInWords(size)}`
  switch (mime.split("/")[0]) {
    case "image":
      return (
        <a href={address} target="_blank" rel="noreferrer">
          <img
            src={address}
            alt={`a picture (${words})`}
            className="max-h-40 max-w-full border border-line object-contain sm:max-w-56"
          />
        </a>
      )
    case "audio":
      return (
        <audio
          controls
          preload="none"
          src={address}
          aria-label={`a sound (${words})`}
          className="h-9 max-w-full sm:max-w-64"
        />
      )
    case "video":
      return (
        <video
          controls
          preload="metadata"
          src={address}
          aria-label={`a video (${words})`}
          className="max-h-40 max-w-full sm:max-w-64"
        />
      )
    default:
      return (
        <a href={address} className="border border-line bg-paper px-2 py-1 text-xs underline" download>
          file: {words}
        </a>
      )
  }
}

function sizeInWords(bytes: number): string {
  if (bytes < 1000) return `${bytes} bytes`
  return bytes < 1_000_000 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`
}
