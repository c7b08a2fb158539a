import { LRUCache } from "lru-cache"
import { readWords } from "../phrase/words.ts"
import type { AnswerKind, NoAnswer } from "./question.ts"

/**
 * What an interview says and understands by itself, in one language. `{least}`, `{most}` and `{cancel}` are filled in;
 * an author's own words (`interviews:` in `bot.yaml`) come before these.
 */
export interface InterviewWords {
  yes: string[]
  no: string[]
  cancel: string[]
  back: string[]
  /** "the first", "the second": an option by its place, in all its forms. */
  ordinals: string[][]
  last: string[]
  /** Between items of a list. */
  and: string[]
  labels: { yes: string; no: string; enough: string }
  /** What is said when something is no answer, by what was wanted. */
  unread: { [kind in AnswerKind]: string }
  tooSmall: string
  tooLarge: string
  tooFew: string
  tooMany: string
  texts: InterviewTexts
  /** A code was said by which somebody is known on a second channel. */
  joined: string
}

/** What is said at certain moments; an author may change each. */
export interface InterviewTexts {
  /** The person said the word that ends it. */
  cancelled: string
  /** There is no question before this one, or none that may be asked again. */
  noWayBack: string
  /** Too many answers could not be read. */
  givenUp: string
  /** The time for an answer is nearly over. */
  reminder: string
  /** The time for an answer is over. */
  late: string
  /** The handler was changed so that what was answered no longer fits. */
  changed: string
  /** A button of a question that was answered before. */
  answered: string
  /** A third interview would begin within a second one. */
  tooDeep: string
  /** It has more behind it than an interview may have. */
  tooLong: string
  /** How a question can be left. */
  leaveIt: string
}

export const momentsSaid = [
  ...["cancelled", "noWayBack", "givenUp", "reminder", "late", "changed", "answered", "tooDeep", "tooLong", "leaveIt"],
] as readonly (keyof InterviewTexts)[]

const en: InterviewWords = {
  joined: "Done: you are known here as the same person.",
  yes: ["yes", "y", "yep", "yeah", "yup", "sure", "ok", "okay", "right", "correct", "of course", "please do", "do it"],
  no: ["no", "n", "nope", "nah", "not really", "no thanks", "no thank you", "never", "don't"],
  cancel: ["cancel", "leave it", "never mind", "forget it"],
  back: ["back", "go back", "previous"],
  ordinals: [
    ["first"],
    ["second"],
    ["third"],
    ["fourth"],
    ["fifth"],
    ["sixth"],
    ["seventh"],
    ["eighth"],
    ["ninth"],
    ["tenth"],
  ],
  last: ["last"],
  and: ["and"],
  labels: { yes: "Yes", no: "No", enough: "That is all" },
  unread: {
    text: "Please write a few words.",
    number: "I need a number, such as 2.5.",
    integer: "I need a whole number, such as 2.",
    date: "I could not read a day in that. You can write “tomorrow”, “friday” or “3 May”.",
    time: "I could not read a time in that. You can write “14:20” or “half past two”.",
    choice: "Please pick one of the options.",
    choices: "Please pick from the options; several with commas between them.",
    yesNo: "Please answer yes or no.",
    phone: "I could not read a telephone number in that.",
    email: "I could not read an email address in that.",
    media: "Please send a picture or a file.",
    location: "Please send a location.",
    list: "Please write what belongs on the list, with commas between.",
  },
  tooSmall: "It must be {least} or more.",
  tooLarge: "It must be {most} or less.",
  tooFew: "It must be at least {least}.",
  tooMany: "It must be {most} at most.",
  texts: {
    cancelled: "All right, I have left it there.",
    noWayBack: "I cannot go further back than this.",
    givenUp: "Let us leave it there. You can begin again at any time.",
    reminder: "I am still waiting for your answer.",
    late: "I have stopped waiting for your answer. You can begin again at any time.",
    changed: "What we were at has changed meanwhile, so we have to begin again. I am sorry.",
    answered: "That question is over.",
    tooDeep: "One thing after the other: let us first finish what we are at.",
    tooLong: "This has become too long for me, so it ends here. You can begin again at any time.",
    leaveIt: "Say “{cancel}” to leave it.",
  },
}

const de: InterviewWords = {
  joined: "Erledigt: Sie sind hier als dieselbe Person bekannt.",
  yes: ["ja", "j", "jo", "jep", "klar", "gerne", "ok", "okay", "genau", "stimmt", "richtig", "natürlich", "bitte"],
  no: ["nein", "n", "nö", "nee", "nicht", "nein danke", "lieber nicht"],
  cancel: ["abbrechen", "lass es", "lassen wir das", "vergiss es"],
  back: ["zurück", "eins zurück"],
  ordinals: [
    ["erste", "erster", "erstes", "ersten"],
    ["zweite", "zweiter", "zweites", "zweiten"],
    ["dritte", "dritter", "drittes", "dritten"],
    ["vierte", "vierter", "viertes", "vierten"],
    ["fünfte", "fünfter", "fünftes", "fünften"],
    ["sechste", "sechster", "sechstes", "sechsten"],
    ["siebte", "siebter", "siebtes", "siebten"],
    ["achte", "achter", "achtes", "achten"],
    ["neunte", "neunter", "neuntes", "neunten"],
    ["zehnte", "zehnter", "zehntes", "zehnten"],
  ],
  last: ["letzte", "letzter", "letztes"],
  and: ["und"],
  labels: { yes: "Ja", no: "Nein", enough: "Das ist alles" },
  unread: {
    text: "Bitte schreiben Sie ein paar Worte.",
    number: "Ich brauche eine Zahl, zum Beispiel 2,5.",
    integer: "Ich brauche eine ganze Zahl, zum Beispiel 2.",
    date: "Darin habe ich keinen Tag gefunden. Sie können „morgen“, „Freitag“ oder „3. Mai“ schreiben.",
    time: "Darin habe ich keine Uhrzeit gefunden. Sie können „14:20“ oder „halb drei“ schreiben.",
    choice: "Bitte wählen Sie eine der Möglichkeiten.",
    choices: "Bitte wählen Sie aus den Möglichkeiten; mehrere mit Komma dazwischen.",
    yesNo: "Bitte antworten Sie mit Ja oder Nein.",
    phone: "Darin habe ich keine Telefonnummer gefunden.",
    email: "Darin habe ich keine E-Mail-Adresse gefunden.",
    media: "Bitte schicken Sie ein Bild oder eine Datei.",
    location: "Bitte schicken Sie einen Standort.",
    list: "Bitte schreiben Sie, was auf die Liste gehört, mit Komma dazwischen.",
  },
  tooSmall: "Es muss mindestens {least} sein.",
  tooLarge: "Es darf höchstens {most} sein.",
  tooFew: "Es müssen mindestens {least} sein.",
  tooMany: "Es dürfen höchstens {most} sein.",
  texts: {
    cancelled: "Gut, wir lassen es dabei.",
    noWayBack: "Weiter zurück geht es hier nicht.",
    givenUp: "Lassen wir es dabei. Sie können jederzeit neu beginnen.",
    reminder: "Ich warte noch auf Ihre Antwort.",
    late: "Ich warte nicht länger auf Ihre Antwort. Sie können jederzeit neu beginnen.",
    changed: "Das hat sich inzwischen geändert; wir müssen leider von vorn beginnen.",
    answered: "Diese Frage ist schon vorbei.",
    tooDeep: "Eins nach dem anderen: erst beenden wir, wobei wir sind.",
    tooLong: "Das ist mir zu lang geworden, darum endet es hier. Sie können jederzeit neu beginnen.",
    leaveIt: "Mit „{cancel}“ lassen wir es.",
  },
}

const fr: InterviewWords = {
  joined: "C’est fait : vous êtes reconnu ici comme la même personne.",
  yes: ["oui", "o", "ouais", "d'accord", "ok", "bien sûr", "exact", "volontiers"],
  no: ["non", "n", "pas vraiment", "non merci"],
  cancel: ["annuler", "laisse tomber", "laissez tomber"],
  back: ["retour", "précédent", "revenir"],
  ordinals: [
    ["premier", "première"],
    ["deuxième", "second", "seconde"],
    ["troisième"],
    ["quatrième"],
    ["cinquième"],
    ["sixième"],
    ["septième"],
    ["huitième"],
    ["neuvième"],
  ],
  last: ["dernier", "dernière"],
  and: ["et"],
  labels: { yes: "Oui", no: "Non", enough: "C'est tout" },
  unread: {
    text: "Écrivez quelques mots, s'il vous plaît.",
    number: "Il me faut un nombre, par exemple 2,5.",
    integer: "Il me faut un nombre entier, par exemple 2.",
    date: "Je n'y ai pas trouvé de jour. Vous pouvez écrire « demain », « vendredi » ou « 3 mai ».",
    time: "Je n'y ai pas trouvé d'heure. Vous pouvez écrire « 14:20 ».",
    choice: "Choisissez une des options, s'il vous plaît.",
    choices: "Choisissez parmi les options ; plusieurs avec des virgules.",
    yesNo: "Répondez par oui ou par non, s'il vous plaît.",
    phone: "Je n'y ai pas trouvé de numéro de téléphone.",
    email: "Je n'y ai pas trouvé d'adresse e-mail.",
    media: "Envoyez une image ou un fichier, s'il vous plaît.",
    location: "Envoyez une position, s'il vous plaît.",
    list: "Écrivez ce qui va sur la liste, avec des virgules.",
  },
  tooSmall: "Il faut {least} ou plus.",
  tooLarge: "Il faut {most} ou moins.",
  tooFew: "Il en faut au moins {least}.",
  tooMany: "Il en faut {most} au plus.",
  texts: {
    cancelled: "Très bien, nous en restons là.",
    noWayBack: "Je ne peux pas revenir plus loin.",
    givenUp: "Restons-en là. Vous pouvez recommencer à tout moment.",
    reminder: "J'attends toujours votre réponse.",
    late: "Je n'attends plus votre réponse. Vous pouvez recommencer à tout moment.",
    changed: "Cela a changé entre-temps ; il faut malheureusement recommencer.",
    answered: "Cette question est close.",
    tooDeep: "Une chose après l'autre : finissons d'abord ce que nous faisons.",
    tooLong: "C'est devenu trop long pour moi ; cela s'arrête ici. Vous pouvez recommencer à tout moment.",
    leaveIt: "Dites « {cancel} » pour en rester là.",
  },
}

const es: InterviewWords = {
  joined: "Hecho: aquí se te conoce como la misma persona.",
  yes: ["sí", "s", "vale", "claro", "ok", "correcto", "por supuesto", "de acuerdo"],
  no: ["no", "n", "no gracias", "mejor no"],
  cancel: ["cancelar", "déjalo", "olvídalo"],
  back: ["atrás", "volver", "anterior"],
  ordinals: [
    ["primero", "primera", "primer"],
    ["segundo", "segunda"],
    ["tercero", "tercera", "tercer"],
    ["cuarto", "cuarta"],
    ["quinto", "quinta"],
    ["sexto", "sexta"],
    ["séptimo", "séptima"],
    ["octavo", "octava"],
    ["noveno", "novena"],
    ["décimo", "décima"],
  ],
  last: ["último", "última"],
  and: ["y"],
  labels: { yes: "Sí", no: "No", enough: "Eso es todo" },
  unread: {
    text: "Escriba unas palabras, por favor.",
    number: "Necesito un número, por ejemplo 2,5.",
    integer: "Necesito un número entero, por ejemplo 2.",
    date: "No he encontrado un día en eso. Puede escribir «mañana», «viernes» o «3 de mayo».",
    time: "No he encontrado una hora en eso. Puede escribir «14:20».",
    choice: "Elija una de las opciones, por favor.",
    choices: "Elija entre las opciones; varias con comas.",
    yesNo: "Responda sí o no, por favor.",
    phone: "No he encontrado un número de teléfono en eso.",
    email: "No he encontrado una dirección de correo en eso.",
    media: "Envíe una imagen o un archivo, por favor.",
    location: "Envíe una ubicación, por favor.",
    list: "Escriba lo que va en la lista, con comas.",
  },
  tooSmall: "Debe ser {least} o más.",
  tooLarge: "Debe ser {most} o menos.",
  tooFew: "Deben ser al menos {least}.",
  tooMany: "Deben ser {most} como máximo.",
  texts: {
    cancelled: "De acuerdo, lo dejamos.",
    noWayBack: "No puedo volver más atrás.",
    givenUp: "Dejémoslo aquí. Puede empezar de nuevo cuando quiera.",
    reminder: "Sigo esperando su respuesta.",
    late: "Ya no espero su respuesta. Puede empezar de nuevo cuando quiera.",
    changed: "Esto ha cambiado mientras tanto; hay que empezar de nuevo, lo siento.",
    answered: "Esa pregunta ya ha terminado.",
    tooDeep: "Una cosa tras otra: terminemos primero lo que estamos haciendo.",
    tooLong: "Esto se ha hecho demasiado largo para mí y termina aquí. Puede empezar de nuevo cuando quiera.",
    leaveIt: "Diga «{cancel}» para dejarlo.",
  },
}

const pt: InterviewWords = {
  joined: "Feito: aqui és reconhecido como a mesma pessoa.",
  yes: ["sim", "s", "claro", "ok", "certo", "com certeza", "está bem"],
  no: ["não", "n", "não obrigado", "não obrigada"],
  cancel: ["cancelar", "deixa", "deixe estar", "esquece"],
  back: ["voltar", "atrás", "anterior"],
  ordinals: [
    ["primeiro", "primeira"],
    ["segundo", "segunda"],
    ["terceiro", "terceira"],
    ["quarto", "quarta"],
    ["quinto", "quinta"],
    ["sexto", "sexta"],
    ["sétimo", "sétima"],
    ["oitavo", "oitava"],
    ["nono", "nona"],
    ["décimo", "décima"],
  ],
  last: ["último", "última"],
  and: ["e"],
  labels: { yes: "Sim", no: "Não", enough: "É tudo" },
  unread: {
    text: "Escreva algumas palavras, por favor.",
    number: "Preciso de um número, por exemplo 2,5.",
    integer: "Preciso de um número inteiro, por exemplo 2.",
    date: "Não encontrei um dia nisso. Pode escrever «amanhã», «sexta-feira» ou «3 de maio».",
    time: "Não encontrei uma hora nisso. Pode escrever «14:20».",
    choice: "Escolha uma das opções, por favor.",
    choices: "Escolha entre as opções; várias com vírgulas.",
    yesNo: "Responda sim ou não, por favor.",
    phone: "Não encontrei um número de telefone nisso.",
    email: "Não encontrei um endereço de email nisso.",
    media: "Envie uma imagem ou um ficheiro, por favor.",
    location: "Envie uma localização, por favor.",
    list: "Escreva o que vai na lista, com vírgulas.",
  },
  tooSmall: "Tem de ser {least} ou mais.",
  tooLarge: "Tem de ser {most} ou menos.",
  tooFew: "Têm de ser pelo menos {least}.",
  tooMany: "Podem ser {most} no máximo.",
  texts: {
    cancelled: "Está bem, ficamos por aqui.",
    noWayBack: "Não posso voltar mais atrás.",
    givenUp: "Fiquemos por aqui. Pode começar de novo quando quiser.",
    reminder: "Ainda espero a sua resposta.",
    late: "Já não espero a sua resposta. Pode começar de novo quando quiser.",
    changed: "Isto mudou entretanto; temos de começar de novo, lamento.",
    answered: "Essa pergunta já passou.",
    tooDeep: "Uma coisa de cada vez: acabemos primeiro o que estamos a fazer.",
    tooLong: "Isto tornou-se demasiado longo para mim e termina aqui. Pode começar de novo quando quiser.",
    leaveIt: "Diga «{cancel}» para deixar.",
  },
}

/** By the languages' codes. Another language is another of these. */
export const interviewWords: { [code: string]: InterviewWords } = { en, de, fr, es, pt }

/** The words in the first of the languages that there are words in; English where there are none. */
export function wordsIn(languages: string[]): InterviewWords {
  const code = languages.map((one) => one.toLowerCase().split(/[-_]/)[0]!).find((one) => one in interviewWords)
  return interviewWords[code ?? "en"]!
}

/** Whether a text is exactly one of some words, apart from case, accents and punctuation. */
export function isOneOf(text: string, words: string[]): boolean {
  if (text.length > 200) return false
  const said = foldedWords(text)
  return said !== "" && words.some((word) => foldedOnce(word) === said)
}

/** Options may be made for each person: what was folded lately is kept, and no more. */
const onceFolded = new LRUCache<string, string>({ max: 5000 })

/** For words that come again and again: those of a language, of a bot, of a question. */
export function foldedOnce(word: string): string {
  let folded = onceFolded.get(word)
  if (folded === undefined) onceFolded.set(word, (folded = foldedWords(word)))
  return folded
}

export function foldedWords(text: string): string {
  return readWords(text)
    .map(({ folded }) => folded)
    .join(" ")
}

/** Why something is no answer, as the person reads it. */
export function reasonWords(words: InterviewWords, kind: AnswerKind, no: NoAnswer): string {
  switch (no.reason) {
    case "author":
      return no.why
    case "unread":
      return words.unread[kind]
    case "too small":
      return words.tooSmall.replace("{least}", String(no.least))
    case "too large":
      return words.tooLarge.replace("{most}", String(no.most))
    case "too few":
      return words.tooFew.replace("{least}", String(no.least))
    case "too many":
      return words.tooMany.replace("{most}", String(no.most))
  }
}
