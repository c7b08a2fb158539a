/** Characters of a conversation's state as JSON, whoever gives it: it is read and written with every turn. */
export const longestState = 256 * 1024
