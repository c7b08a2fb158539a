import type { DeskPlace } from "./desk.ts"
import type Joi from "joi"
import type { Presence } from "../channels/presence.ts"
import type { Rules } from "../phrase/rules.ts"
import type { GroupRules, Only } from "./addressed.ts"
import type { Condition } from "./condition.ts"

import type { Hours } from "./hours.ts"

import type { InterviewTexts } from "../interview/words.ts"
import type { Application, NoticeRule } from "../notice/notice.ts"
import type { Relay } from "../relay/relay.ts"
import type { Texts, Written } from "./texts.ts"
import type { Model } from "../model/model.ts"
import type { Unrouted } from "./unrouted.ts"
import type { HandlerName } from "./handlerName.ts"

/** A bot folder's `bot.yaml`, read and checked. */
export interface Bot {
  bot: string
  /** Milliseconds in which what one person sends belongs together. */
  gather: number
  /** More turns than this a minute by one person wait, or are set aside where others stand behind them. */
  turnsPerMinute: number
  /** Milliseconds a code handler may take. */
  deadline: number
  /** Whose dates and times are meant: an IANA zone. */
  zone: string
  /** In which dates, times and numbers are written, by their codes. */
  language: string[]
  /** The country of telephone numbers without a code of their own, such as GB. */
  country?: string
  rules?: Rules
  hours?: { [name: string]: Hours }
  texts?: Texts
  /** Where in groups the bot speaks. */
  groups: GroupRules
  /** Set for a bot that answers nowhere else. */
  only?: Only
  /** What holds for every interview that says nothing else. */
  interviews?: InterviewDefaults
  /** Where those who answer instead of the bot are told who waits. */
  desk?: DeskPlace
  /** Milliseconds of silence after which the bot answers again where a person has. */
  giveBack?: number
  /** Names of hours in which nothing starts from the bot; an answer to somebody who has just written is no such thing. */
  quiet?: string[]
  /** The folder's own schema of a conversation's state: in which file, and whether it migrates what is of before. */
  stateSchema?: { file: "state.ts" | "state.yaml"; migrates: boolean }
  routes: Route[]
  unrouted?: Unrouted
  /** Model servers, by the names that handlers know them by. */
  models?: { [name: string]: Model }
  /** What is told of events of applications, and to whom. */
  notices?: NoticeRule[]
  /** What is shown elsewhere besides being answered. */
  also?: { name: string; when: Condition; relay: Relay }[]
  /** Applications that post their own JSON, by name. */
  applications?: { [name: string]: Application }
  /** Texts of the folder that handlers name, by their paths in it: instructions, and facts. */
  files?: { [path: string]: string }
  /** What people see of the bot at its providers; `connect` sets it. */
  account?: Presence
}

/** @property within and remind, in milliseconds; `remind` 0 for never */
export interface InterviewDefaults {
  within?: number
  remind?: number
  tries?: number
  /** Further words that leave a question, and that lead back to the one before. */
  cancel?: string[]
  back?: string[]
  texts?: { [moment in keyof InterviewTexts]?: Written }
}

export interface Route {
  name: string
  when: Condition
  handler: HandlerName
  /** Milliseconds the handler may take, where it is not the bot's. */
  deadline?: number
  /** How many times a turn is tried before it is parked. */
  tries?: number
  /** Names of the bot's secrets that its handler gets. */
  secrets?: string[]
}

/** What the handlers of a bot may be. */
export interface HandlersKnown {
  /** Names of the code handlers there are. */
  files: ReadonlySet<string>
  /** By the name of each other kind what may be written for it, that name among it. */
  kinds: { [kind: string]: Joi.ObjectSchema }
  /** Rules that stand in files of their own. */
  rules?: Rules
  /** Texts that stand in files of their own. */
  texts?: Texts
  /** Text files of the folder, by their paths in it. */
  documents?: { [path: string]: string }
  /** Names of the tools that models may use. */
  tools?: ReadonlySet<string>
  /** iCalendar files, by their names. */
  calendars?: { [file: string]: string }
}

/** What is wrong with a bot folder, where, and what to write instead. Lines and columns count from 1. */
export interface Fault {
  file: string
  line?: number
  column?: number
  says: string
  remedy?: string
}

/** @property lines where in the file each route begins, in order */
export type BotReading = { bot: Bot; lines: number[] } | { faults: Fault[] }
