/** The four rights; each includes those before it. */
export const RIGHTS = ['look', 'operate', 'define', 'administer'] as const

export const MEANING: Record<(typeof RIGHTS)[number], string> = {
  look: 'sees jobs, runs, reports and files',
  operate: 'starts, stops, releases; saves and uploads files',
  define: 'defines jobs, and what they remove',
  administer: 'stores and their keys, people, the trail',
}
