/** The runs that a figure counts. */
export function runsIn(span: { since: string; until: string }, job: string): string {
  const query = new URLSearchParams({ since: span.since, until: span.until, only: 'transfer' })
  if (job) query.set('job', job)
  return `/runs?${query}`
}
