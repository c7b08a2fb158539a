import type { Application } from "../core/notice/notice.ts"
import type { Bot } from "../core/routing/bot.ts"
import type { Route } from "../core/routing/bot.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"

export interface ReleaseRow {
  id: string
  bot: string
  definition: Bot
  bundle: string | null
}

/** Keeps a release under its content hash, and lets a lane stand for it. Gives false when the lane stood for it already. */
export async function publishRelease(database: Database, release: ReleaseRow, lane: string): Promise<boolean> {
  return database.transaction(async (step) => {
    await rows(
      step,
      "INSERT INTO releases (id, bot, definition, bundle) VALUES (?, ?, ?::jsonb, ?) ON CONFLICT DO NOTHING",
      [release.id, release.bot, JSON.stringify(release.definition), release.bundle],
    )
    const moved = await rows(
      step,
      `INSERT INTO lanes AS l (bot, lane, release) VALUES (?, ?, ?)
       ON CONFLICT (bot, lane) DO UPDATE SET release = excluded.release, moved_at = now() WHERE l.release <> excluded.release RETURNING 1`,
      [release.bot, lane, release.id],
    )
    return moved.length > 0
  })
}

export async function releaseById(database: Database, id: string): Promise<ReleaseRow | undefined> {
  return (await rows<ReleaseRow>(database, "SELECT id, bot, definition, bundle FROM releases WHERE id = ?", [id]))[0]
}

/** The release a channel follows now. */
export async function releaseOfChannel(database: Database, key: string): Promise<string | undefined> {
  const [found] = await rows<{ release: string }>(
    database,
    `SELECT l.release FROM channels c JOIN lanes l ON l.lane = c.lane AND (c.bot IS NULL OR l.bot = c.bot) WHERE c.key = ? ORDER BY l.moved_at DESC LIMIT 1`,
    [key],
  )
  return found?.release
}

/** The release that answers each channel; none where nothing is known of its bot or lane. */
export async function releasesOfChannels(database: Database): Promise<Map<string, string>> {
  const found = await rows<{ key: string; release: string }>(
    database,
    `SELECT c.key, l.release FROM channels c CROSS JOIN LATERAL (
       SELECT release FROM lanes WHERE lane = c.lane AND (c.bot IS NULL OR bot = c.bot) ORDER BY moved_at DESC LIMIT 1
     ) l`,
  )
  return new Map(found.map(({ key, release }) => [key, release]))
}

/** The bots there are, with their lanes. */
export async function lanesKnown(database: Database): Promise<{ bot: string; lane: string }[]> {
  return rows(database, "SELECT bot, lane FROM lanes ORDER BY bot, lane")
}

/** The routes of the bots of all lanes that take secrets, or may: those that list some, and handlers that are no file. */
export async function lanesWithRoutes(database: Database): Promise<
  {
    bot: string
    lane: string
    routes: Pick<Route, "name" | "handler" | "secrets">[]
    models: Bot["models"]
    zone: string | null
  }[]
> {
  return rows(
    database,
    `SELECT l.bot, l.lane, coalesce((SELECT jsonb_agg(jsonb_build_object('name', r->>'name', 'handler', r->'handler')
         || CASE WHEN r->'secrets' IS NULL THEN '{}' ELSE jsonb_build_object('secrets', r->'secrets') END)
       FROM jsonb_array_elements(d.definition->'routes') r
       WHERE r->'secrets' IS NOT NULL OR jsonb_typeof(r->'handler') = 'object'), '[]') AS routes, coalesce(d.definition->'models', '{}') AS models, d.definition->>'zone' AS zone
     FROM lanes l JOIN releases d ON d.id = l.release ORDER BY l.bot, l.lane`,
  )
}

/** The lanes whose bots have notices, with the events they are for. */
export async function lanesWithNotices(
  database: Database,
): Promise<{ bot: string; lane: string; release: string; types: string[] }[]> {
  return rows(
    database,
    `SELECT l.bot, l.lane, l.release, ARRAY(SELECT DISTINCT n->>'on' FROM jsonb_array_elements(d.definition->'notices') n) AS types
     FROM lanes l JOIN releases d ON d.id = l.release WHERE d.definition->'notices' IS NOT NULL ORDER BY l.bot, l.lane`,
  )
}

/** An application's inlet, as the newest release of a bot's live lane says it. */
export async function applicationOf(database: Database, bot: string, name: string): Promise<Application | undefined> {
  const [found] = await rows<{ application: Application | null }>(
    database,
    `SELECT d.definition->'applications'->?::text AS application FROM lanes l JOIN releases d ON d.id = l.release
     WHERE l.bot = ? AND l.lane = 'live'`,
    [name, bot],
  )
  return found?.application ?? undefined
}

export async function newestRelease(database: Database): Promise<string | undefined> {
  return (await rows<{ release: string }>(database, "SELECT release FROM lanes ORDER BY moved_at DESC LIMIT 1"))[0]
    ?.release
}

/** Every release a lane stands for. */
export async function releasesOfLanes(database: Database): Promise<string[]> {
  return (await rows<{ release: string }>(database, "SELECT DISTINCT release FROM lanes")).map((row) => row.release)
}
