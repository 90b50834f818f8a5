/** What stays in sight beside a long form. */
export const BESIDE = { position: 'sticky', top: 16, alignSelf: 'flex-start' } as const

/** Of a link in the middle of a text: its colour alone would not tell it. */
export const UNDERLINED = { textDecoration: 'underline' } as const
