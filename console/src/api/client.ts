/** The only door to the server. Types come from the published API description. */
import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

type Shapes = components['schemas']
export type Run = Shapes['RunShape']
export type RunWhole = Shapes['RunWholeShape']
export type Job = Shapes['JobShape']
export type JobLine = Shapes['JobLineShape']
export type JobVersion = Shapes['JobVersionShape']
export type Explanation = Shapes['ExplanationShape']
export type Finding = Shapes['FindingShape']
export type FolderTotals = Shapes['FolderShape']
export type Due = Shapes['DueShape']
export type ServiceSettings = Shapes['SettingsShape']
export type Preview = Shapes['PreviewShape']
export type LegCounted = Shapes['LegCountedShape']
export type TriggerFacts = Shapes['TriggerShape']
export type JobImported = Shapes['ImportedShape']
export type Difference = Shapes['DifferenceShape']
export type Definition = Shapes['DefinitionShape']
export type Store = Shapes['StoreTold']
export type StoreForm = Shapes['StoreFormShapeRequest']
export type Tried = Shapes['TriedShape']
export type Progress = Shapes['ProgressShape']
export type Today = Shapes['TodayShape']
export type FileRow = Shapes['ObjectShape']
export type Carried = Shapes['CarriedShape']
export type CarryForm = Shapes['CarryShapeRequest']
export type Session = Shapes['SessionShape']
export type Person = Shapes['PersonShape']
export type OpenSession = Shapes['OpenSessionShape']
export type Token = Shapes['TokenShape']
export type TrailLine = Shapes['LineShape']
export type TodayPicture = Shapes['PictureShape']
export type Inventory = Shapes['InventoryShape']
export type FolderSum = Shapes['FolderSumShape']
export type Concern = Shapes['ConcernShape']
export type Week = Shapes['WeekShape']
export type Happening = Shapes['HappeningShape']
export type FoundPlace = Shapes['FoundShape']
export type Compared = Shapes['ComparedShape']
export type Notice = Shapes['NoticeShape']
export type Delivery = Shapes['DeliveryShape']
export type MailServer = Shapes['MailShape']
export type Browsed = Shapes['BrowsedShape']
export type Side = Shapes['SideShape']
export type Forms = Shapes['FormsShape']
export type Field = Shapes['FieldShape']
export type JobOption = Shapes['OptionShape']
export type Intent = NonNullable<Definition['intent']>

export interface Problem {
  code: string
  detail: string
  status: number
  problems?: { field: string; code: string; message: string }[]
}

/** A refusal by the service, or no answer from it. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
  get code() {
    return this.problem.code
  }
  /** What is wrong with one field of a form. */
  of(field: string): string | undefined {
    return this.problem.problems?.find((p) => p.field === field)?.message
  }
}

let csrf = ''
export const keepCsrf = (token: string) => {
  csrf = token
}

export const api = createClient<paths>({
  baseUrl: globalThis.location.origin,
  credentials: 'same-origin',
  fetch: (request) => globalThis.fetch(request), // looked up at each call: a test serves another
})
api.use({
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-CSRFToken', csrf)
  },
})

/** Whether the service answered when it was last asked. */
let away = false
const listeners = new Set<() => void>()
const heard = (isAway: boolean) => {
  if (away === isAway) return
  away = isAway
  listeners.forEach((tell) => tell())
}
export const presence = {
  subscribe: (tell: () => void) => {
    listeners.add(tell)
    return () => listeners.delete(tell)
  },
  isAway: () => away,
}

/** The answer's body, or a Refusal. */
export async function got<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    heard(true)
    throw new Refusal({
      code: 'service.unreachable',
      detail: 'The service does not answer. Is it running?',
      status: 0,
    })
  }
  heard(false)
  if (answer.response.ok) return answer.data as T
  const told = (answer.error ?? {}) as Partial<Problem>
  throw new Refusal({
    code: told.code ?? `http.${answer.response.status}`,
    detail: told.detail ?? `The service answered ${answer.response.status}.`,
    status: answer.response.status,
    problems: told.problems,
  })
}
