/** A key that nobody has changed for a year wants a person. */
export const isOld = (at: string | null) =>
  at != null && Date.now() - Date.parse(at) > 365 * 86_400_000
