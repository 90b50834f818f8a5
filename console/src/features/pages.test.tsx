/** Each page over a stand-in for the service: what it shows, and what it says when the service fails. */
import { fireEvent, screen, waitFor } from '@testing-library/react'
import { Form } from 'antd'
import type { ReactElement } from 'react'
import { expect, test, vi } from 'vitest'
import { serve, show, type Answers } from '../standin'
import CopyNow from './carry/CopyNow'
import FindPage from './find/FindPage'
import ExplainPage from './jobs/ExplainPage'
import JobFilesPage from './jobs/JobFilesPage'
import JobForm from './jobs/JobForm'
import JobPage from './jobs/JobPage'
import JobsPage from './jobs/JobsPage'
import SchedulePage from './jobs/SchedulePage'
import SettingsPage from './settings/SettingsPage'
import AuditsPage from './jobs/AuditsPage'
import NoticesPage from './notices/NoticesPage'
import PeoplePage from './people/PeoplePage'
import HistoryPage from './runs/HistoryPage'
import RunPage from './runs/RunPage'
import RunsPage from './runs/RunsPage'
import BrowsePage from './stores/BrowsePage'
import InventoryPage from './stores/InventoryPage'
import { PlaceInput } from './stores/PlaceInput'
import StoreForm from './stores/StoreForm'
import StorePage from './stores/StorePage'
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
  course: [
    [0, 0, 0],
    [10, 1024 * 1024, 5],
  ],
  proofs: { 'read-back': 4 },
  effort: { phases: { listing: 0.2, transferring: 9 }, requests: { office: 12 } },
  unusual: ['It carried 90 files; its last 12 runs usually 1 file.'],
  cautions: ['partner does not keep the type and the metadata of objects.'],
}
const TRIGGER = {
  job: 'dawn',
  kind: 'changes',
  when: 'when something at its source has changed',
  is_on: true,
  looked_at: '2026-03-02T05:30:00Z',
  noticed_at: null,
  noticed: 0,
  growing: 2,
  waits: '2 files are still growing.',
  message: '',
  run: null,
  run_at: null,
}
const LEG = { from: 'pine://posts/', to: 'pine://office/dawn/' }
const LINE = {
  job: 'dawn',
  title: 'Dawn',
  labels: ['owls'],
  owner: 'mara',
  intent: 'mirror',
  legs: [LEG],
  is_on: true,
  version: 2,
  next_due: null,
  recent: [{ ...RUN, seconds: 59 }],
  last_bytes: 9000,
  usual_s: 61,
}
const JOB = {
  job: 'dawn',
  title: 'Dawn',
  definition: { job: 'dawn', intent: 'renew', legs: [LEG], why: '', owner: 'mara' },
  version: 2,
  is_on: false,
  switched: { by: 'tam', at: '2026-03-02T05:30:00Z', why: 'the office moves' },
  next_due: null,
  when: 'every day at 05:30, London time',
  due: ['2026-03-03T05:30:00Z'],
  sentences: ['Takes and puts.', 'Removes what is gone.'],
  dangers: ['Removes what is gone.'],
  last_run: RUN,
  last_audit: null,
}
const VERSIONS = [
  {
    version: 2,
    saved_at: '2026-03-02T05:30:00Z',
    saved_by: 'mara',
    definition: JOB.definition,
    sentences: [],
    differences: [{ field: 'why', title: 'Why it exists', before: 'as usual', after: 'a wish' }],
  },
  {
    version: 1,
    saved_at: '2026-03-01T05:30:00Z',
    saved_by: 'tam',
    definition: JOB.definition,
    sentences: [],
    differences: [],
  },
]
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

const HAPPENING = {
  name: 'not-come:dawn:1',
  kind: 'expected-not-come',
  job: 'dawn',
  run: null,
  at: '2026-03-02T05:30:00Z',
  words: 'Nothing new has come for 33 days.',
  path: '/jobs/dawn',
  over_at: null,
}
const NOTICE = {
  id: 1,
  way: 'mail',
  to: ['wren@larkfell.example'],
  kinds: ['failed'],
  job: '',
  label: '',
  is_on: true,
  waiting: 1,
  sent_at: null,
  message: 'no answer',
}
const PICTURE = {
  since: '2026-03-01T06:00:00Z',
  now: '2026-03-02T06:00:00Z',
  until: '2026-03-02T10:00:00Z',
  lanes: [
    {
      job: 'dawn',
      runs: [
        {
          id: 7,
          job: 'dawn',
          mark: 'clean',
          started_at: '2026-03-02T05:30:00Z',
          ended_at: '2026-03-02T05:40:00Z',
        },
      ],
      due: ['2026-03-02T07:00:00Z'],
    },
  ],
  more_lanes: 0,
  days: [{ day: '2026-03-02', runs: 1, files: 4, bytes: 9000, problems: 0 }],
  stores: [
    {
      name: 'office',
      tried_at: null,
      is_reached: null,
      message: '',
      key_since: null,
      is_key_old: false,
    },
  ],
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
      today: {
        sentence: 'One run needs a look.',
        restored: '',
        needed: [RUN],
        awaited: [HAPPENING],
        unusual: [{ ...HAPPENING, name: 'run-7-unusual', kind: 'unusual', words: 'It took 9 h.' }],
        concerns: [
          { subject: 'office', words: 'Its key is over a year old.', todo: 'Give one.', path: '/' },
        ],
        working: [],
        recent: [],
        due: [],
      },
      'today/picture': PICTURE,
    },
    says: /Nothing new has come for 33 days/,
  },
  history: {
    page: <HistoryPage />,
    needs: {
      weeks: [
        {
          since: '2026-03-02T00:00:00Z',
          until: '2026-03-09T00:00:00Z',
          runs: 3,
          outcomes: { clean: 2, failed: 1 },
          files: 20,
          bytes: 9000,
          problems: 1,
          lasted: { least: 2, usual: 4, most: 60 },
          marks: [
            {
              since: '2026-03-02T03:00:00Z',
              until: '2026-03-02T06:00:00Z',
              mark: 'failed',
              runs: 3,
              run: 7,
            },
          ],
        },
      ],
    },
    says: '2026-03-02',
  },
  'a store': {
    page: <StorePage />,
    at: '/stores/office/about',
    route: '/stores/:name/about',
    needs: {
      stores: [
        {
          ...STORE,
          tried_at: '2026-03-02T05:30:00Z',
          tried: [{ step: 'sign in', ok: false, message: 'the secret is another' }],
        },
      ],
      inventories: [{ ...RUN, kind: 'inventory', sentence: '4 files, 8.8 KiB in pine://office/.' }],
    },
    says: 'the secret is another',
  },
  'an inventory': {
    page: <InventoryPage />,
    at: '/inventories/7',
    route: '/inventories/:id',
    needs: {
      'inventories/7': {
        ...RUN,
        kind: 'inventory',
        sentence: '4 files, 8.8 KiB in pine://posts/.',
        folder: { key: '', key_id: '', objects: 4, bytes: 9000, newest_ns: 0, others: [0, 0, 0] },
        inside: [],
        ages: [{ name: 'a week', objects: 4, bytes: 9000 }],
        kinds: [{ name: 'flac', objects: 4, bytes: 9000 }],
        largest: [{ key: 'a.flac', key_id: 'a.flac', bytes: 5000, modified_ns: 0 }],
      },
    },
    says: '4 files lie directly here.',
  },
  audits: {
    page: <AuditsPage />,
    needs: { audits: [{ ...RUN, kind: 'audit', findings: 3, audit: { depth: 'content' } }] },
    says: 'By names, sizes and content',
  },
  notices: {
    page: <NoticesPage />,
    needs: {
      notices: [NOTICE],
      deliveries: [
        { ...HAPPENING, id: 1, to: NOTICE.to, tries: 2, sent_at: null, message: 'no answer' },
      ],
      mail: { host: 'mail.larkfell.example', port: 587, security: 'tls', sender: 'a@b.example' },
    },
    says: /2 tries/,
  },
  jobs: {
    page: <JobsPage />,
    needs: { jobs: { jobs: [LINE], total: 1 }, stores: [STORE] },
    says: '▲ make the same',
  },
  'a job': {
    page: <JobPage />,
    at: '/jobs/dawn',
    route: '/jobs/:name',
    needs: { 'jobs/dawn': JOB, 'jobs/dawn/versions': VERSIONS, runs: [RUN] },
    says: 'a wish',
  },
  schedule: {
    page: <SchedulePage />,
    needs: {
      schedule: [
        {
          job: 'dawn',
          title: 'Dawn',
          when: 'every day at 05:30, London time',
          next_due: '2026-03-03T05:30:00Z',
          due: ['2026-03-03T05:30:00Z'],
          is_on: true,
        },
      ],
    },
    says: 'every day at 05:30, London time',
  },
  'what starts by itself': {
    page: <SchedulePage />,
    needs: { schedule: [], triggers: [TRIGGER] },
    says: /2 files are still growing/,
  },
  settings: {
    page: <SettingsPage />,
    needs: {
      settings: {
        values: { site: 'north-fell' },
        guards: { removals: 7 },
        keep: { records: 90 },
      },
      room: [{ what: 'What was done to each file', bytes: 9000, days: 90 }],
      forms: FORMS,
    },
    says: 'site=north-fell',
  },
  'why a file': {
    page: <ExplainPage />,
    at: '/jobs/dawn/explain?key=a.flac',
    route: '/jobs/:name/explain',
    needs: {
      'jobs/dawn/explain': [
        {
          leg: 1,
          places: LEG,
          key: 'a.flac',
          decision: 'leave',
          reason: 'left-out',
          steps: [{ rule: 'leave_out', words: '*.flac: leaves it out.', decides: true }],
          records: [],
        },
      ],
    },
    says: /leaves it out/,
  },
  'jobs from a file': {
    page: <JobFilesPage />,
    needs: {},
    says: /What would change in each job/,
  },
  runs: { page: <RunsPage />, needs: { runs: [RUN] }, says: 'started by mara' },
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
    needs: { stores: [STORE], jobs: { jobs: [LINE], total: 1 }, forms: FORMS },
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

test.each(Object.entries(PAGES).filter(([, { needs }]) => Object.keys(needs).length))(
  '%s says that the service is away',
  async (_, { page, needs, ...where }) => {
    serve(Object.fromEntries(Object.keys(needs).map((path) => [path, null])))
    show(page, where)
    const alerts = await screen.findAllByRole('alert')
    expect(alerts[0]).toHaveTextContent('The service does not answer')
  },
)

test('what a file would change is shown before it is saved', async () => {
  const change = { field: 'why', title: 'Why it exists', before: 'a', after: 'b' }
  const jobs = [
    { job: 'dawn', change: 'changed', differences: [change], sentences: [], dangers: [] },
    { job: 'dusk', change: 'same', differences: [], sentences: [], dangers: [] },
  ]
  const asked = serve({ 'job-files': { jobs, differ: 1, saved: false } })
  show(<JobFilesPage />)
  fireEvent.change(screen.getByLabelText('Its text'), { target: { value: 'job: dawn' } })
  fireEvent.change(screen.getByLabelText('Other stores'), { target: { value: 'test=live' } })
  expect(screen.getByRole('button', { name: 'Save all of it' })).toBeDisabled()
  fireEvent.click(screen.getByRole('button', { name: 'Show what would change' }))
  expect(await screen.findByText('Why it exists:', { exact: false })).toBeInTheDocument()
  expect(screen.getByText('1 job is as in the file already.')).toBeInTheDocument()
  fireEvent.click(screen.getByRole('button', { name: 'Save all of it' }))
  await waitFor(() => expect(asked).toHaveLength(2))
  expect(asked[1]?.body).toEqual({
    text: 'job: dawn',
    form: 'yaml',
    job: '',
    stores: { test: 'live' },
    only_check: false,
  })
})

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

test('a removal by hand is told as what it is: it has no job to go to', async () => {
  const needs = PAGES.today!.needs as { today: object }
  serve({ ...needs, today: { ...needs.today, needed: [{ ...RUN, job: 'remove' }] } })
  show(<TodayPage />)
  expect(await screen.findByText('A removal')).toBeInTheDocument()
  expect(document.querySelector('a[href="/jobs/remove"]')).toBeNull()
})

test('an address that is pasted becomes the place that it is, or a store to be added', async () => {
  const found = { locations: ['pine://office/in/2026'] }
  const understood = { found: { kind: 'shelf', board: 'oak' }, odd: [] }
  const asked = serve({
    'store-forms/find': found,
    'store-forms/read': understood,
    forms: FORMS,
    stores: [STORE],
  })
  const paste = (text: string) =>
    fireEvent.paste(screen.getByLabelText('From: path'), { clipboardData: { getData: () => text } })
  show(
    <Form>
      <PlaceInput which="from" label="From" stores={['office']} hint="in" />
    </Form>,
  )
  paste('\\\\nas.museum.example\\larkfell\\2026')
  await waitFor(() => expect(screen.getByLabelText('From: path')).toHaveValue('in/2026'))
  expect(asked.find((a) => a.method === 'POST')?.body).toEqual({
    address: '\\\\nas.museum.example\\larkfell\\2026',
  })
  found.locations = []
  paste('sftp://elsewhere.example/in')
  expect(await screen.findByText('No store reaches this address yet')).toBeInTheDocument()
  expect(await screen.findByText(/kind shelf/)).toBeInTheDocument()
})
