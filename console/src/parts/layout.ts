/** What stays in sight beside a long form. */
export const BESIDE = { position: 'sticky', top: 16, alignSelf: 'flex-start' } as const
