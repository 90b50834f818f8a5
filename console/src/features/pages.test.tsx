/** Each page over a stand-in for the service: what it shows, and what it says when the service fails. */
import { fireEvent, screen, waitFor } from '@testing-library/react'
import type { ReactElement } from 'react'
import { expect, test, vi } from 'vitest'
import { serve, show, type Answers } from '../standin'
import CopyNow from './carry/CopyNow'
import FindPage from './find/FindPage'
import JobForm from './jobs/JobForm'
import JobsPage from './jobs/JobsPage'
import PeoplePage from './people/PeoplePage'
import RunPage from './runs/RunPage'
import RunsPage from './runs/RunsPage'
import BrowsePage from './stores/BrowsePage'
import StoreForm from './stores/StoreForm'
import StoresPage from './stores/StoresPage'
import TodayPage from './today/TodayPage'
import TrailPage from './trail/TrailPage'

vi.stubGlobal(
  'EventSource',
  class {
    addEventListener() {}
    close() {}
  },
)

const NONE = { objects: 0, bytes: 0 }
const RUN = {
  id: 7,
  kind: 'transfer',
  job: 'dawn',
  title: 'Dawn',
  legs: [{ from: 'pine://posts/', to: 'pine://office/dawn/' }],
  state: 'ended',
  outcome: 'problems',
  cause: 'started by mara',
  queued_at: '2026-03-02T05:30:00Z',
  started_at: '2026-03-02T05:30:01Z',
  ended_at: '2026-03-02T05:31:00Z',
  totals: {
    copy: { objects: 4, bytes: 9000 },
    replace: NONE,
    remove: NONE,
    clear: NONE,
    leave: NONE,
    refuse: NONE,
  },
  reasons: {},
  folders: { copy: 0, remove: 0 },
  problems: 1,
  sentence: '▲ problems: 4 copied, 1 not',
  message: '',
  problem_groups: [{ code: 'store.refused', objects: 1, message: 'may not be read' }],
}
const LEG = { from: 'pine://posts/', to: 'pine://office/dawn/' }
const JOB = {
  job: 'dawn',
  title: 'Dawn',
  definition: { job: 'dawn', intent: 'renew', legs: [LEG] },
  next_due: null,
  marks: [],
  last_run: RUN,
}
const STORE = {
  name: 'office',
  kind: 's3',
  address: 'https://objects.example',
  shows_buckets: true,
  tried_at: null,
  jobs: ['dawn'],
  labels: ['owls'],
}
const field = (name: string, more: object = {}) => ({
  name,
  type: 'text',
  title: name.toUpperCase(),
  help: `help of ${name}`,
  is_needed: false,
  needed_unless: '',
  is_sealed: false,
  is_common: true,
  example: '',
  default: '',
  choices: [],
  least: 0,
  most: 9,
  ...more,
})
const option = (name: string, more: object = {}) => ({
  ...field(name, more),
  is_of_leg: false,
  used_in: ['job', 'carry'],
  shown_for: [],
  ...more,
})
const CHOICE = { value: 'renew', title: 'Add new. Nothing is removed.', is_danger: false }
const FORMS = {
  stores: [
    {
      kind: 'shelf',
      title: 'A shelf',
      has_buckets: false,
      bound_by: ['board'],
      fields: [field('board')],
    },
  ],
  job_options: [
    option('intent', { type: 'choice', choices: [CHOICE] }),
    option('take', { type: 'list', is_of_leg: true }),
    option('rate', { type: 'size', is_common: false }),
  ],
  triggers: [{ kind: 'clock', title: 'By the clock', fields: [field('cron')] }],
  report_formats: [{ name: 'html', title: 'Report', media_type: 'text/html' }],
}

interface Page {
  page: ReactElement
  needs: Answers
  says: string | RegExp
  at?: string
  route?: string
}
const PAGES: Record<string, Page> = {
  today: {
    page: <TodayPage />,
    needs: {
      today: { sentence: 'One run needs a look.', needed: [RUN], working: [], recent: [], due: [] },
    },
    says: 'One run needs a look.',
  },
  jobs: { page: <JobsPage />, needs: { jobs: [JOB] }, says: 'dawn' },
  runs: { page: <RunsPage />, needs: { runs: [RUN] }, says: 'dawn, run 7' },
  run: {
    page: <RunPage />,
    needs: { 'runs/7': RUN, 'runs/7/objects': [] },
    says: /4 copied, 1 not/,
    at: '/runs/7',
    route: 'runs/:id',
  },
  stores: { page: <StoresPage />, needs: { stores: [STORE], runs: [] }, says: 'office' },
  browse: {
    page: <BrowsePage />,
    needs: {
      'stores/office/browse': {
        location: 'pine://office/dawn/',
        entries: [
          { key: 'a.flac', key_id: 'a.flac', kind: 'file', bytes: 9, modified_ns: null, fault: '' },
        ],
        next: '',
      },
    },
    says: 'a.flac',
    at: '/stores/office?path=dawn/',
    route: 'stores/:name',
  },
  'store form': { page: <StoreForm />, needs: { forms: FORMS }, says: 'BOARD' },
  'job form': {
    page: <JobForm />,
    needs: { stores: [STORE], jobs: [JOB], forms: FORMS },
    says: 'More rules',
  },
  copy: { page: <CopyNow />, needs: { stores: [STORE], forms: FORMS }, says: 'TAKE' },
  find: { page: <FindPage />, needs: { find: [] }, says: /No run has touched/, at: '/?name=owl' },
  people: {
    page: <PeoplePage />,
    needs: { people: [{ name: 'wren', active: true, rights: [], second_factor: false }] },
    says: 'wren',
  },
  trail: {
    page: <TrailPage />,
    needs: {
      trail: [
        { id: 1, at: RUN.ended_at, who: 'mara', action: 'job.defined', subject: 'dawn', facts: {} },
      ],
    },
    says: 'dawn',
  },
}

test.each(Object.entries(PAGES))(
  '%s shows what the service tells',
  async (_, { page, needs, says, ...where }) => {
    serve(needs)
    show(page, where)
    expect((await screen.findAllByText(says)).length).toBeGreaterThan(0)
  },
)

test.each(Object.entries(PAGES))(
  '%s says that the service is away',
  async (_, { page, needs, ...where }) => {
    serve(Object.fromEntries(Object.keys(needs).map((path) => [path, null])))
    show(page, where)
    const alerts = await screen.findAllByRole('alert')
    expect(alerts[0]).toHaveTextContent('The service does not answer')
  },
)

test('a form sends what was filled in, and nothing that says nothing', async () => {
  const asked = serve({ forms: FORMS, stores: { name: 'attic' } })
  show(<StoreForm />)
  fireEvent.change(await screen.findByLabelText('BOARD'), { target: { value: 'oak' } })
  fireEvent.change(screen.getByLabelText('Short name'), { target: { value: 'attic' } })
  fireEvent.click(screen.getByRole('button', { name: 'Save' }))
  await waitFor(() => expect(asked.find((a) => a.method === 'POST')).toBeTruthy())
  expect(asked.find((a) => a.method === 'POST')?.body).toEqual({
    kind: 'shelf',
    name: 'attic',
    board: 'oak',
  })
})
