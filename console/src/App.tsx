import { Button, Flex, Grid, Layout, Menu, theme, Typography } from 'antd'
import { lazy, Suspense, useEffect, useSyncExternalStore } from 'react'
import { Link, Navigate, Route, Routes, useLocation } from 'react-router'
import { api, got, keepCsrf, type Session } from './api/client'
import { zone } from './lib/zone'
import { UNDERLINED } from './parts/layout'
import { Coming, PageHead, Loaded, useSession } from './parts/parts'
import { Away } from './parts/Away'
import { Broken } from './parts/Broken'
import { ZoneChoice } from './parts/ZoneChoice'
import { Finder } from './features/finder/Finder'
import { Enter } from './features/session/Enter'
import { SignIn } from './features/session/SignIn'

const TodayPage = lazy(() => import('./features/today/TodayPage'))
const CopyNow = lazy(() => import('./features/carry/CopyNow'))
const JobsPage = lazy(() => import('./features/jobs/JobsPage'))
const JobPage = lazy(() => import('./features/jobs/JobPage'))
const JobForm = lazy(() => import('./features/jobs/JobForm'))
const SchedulePage = lazy(() => import('./features/jobs/SchedulePage'))
const ExplainPage = lazy(() => import('./features/jobs/ExplainPage'))
const JobFilesPage = lazy(() => import('./features/jobs/JobFilesPage'))
const PreviewPage = lazy(() => import('./features/jobs/PreviewPage'))
const AuditsPage = lazy(() => import('./features/jobs/AuditsPage'))
const AuditPage = lazy(() => import('./features/jobs/AuditPage'))
const RunsPage = lazy(() => import('./features/runs/RunsPage'))
const HistoryPage = lazy(() => import('./features/runs/HistoryPage'))
const ComparePage = lazy(() => import('./features/runs/ComparePage'))
const RunPage = lazy(() => import('./features/runs/RunPage'))
const StoresPage = lazy(() => import('./features/stores/StoresPage'))
const StoreForm = lazy(() => import('./features/stores/StoreForm'))
const SidesPage = lazy(() => import('./features/stores/SidesPage'))
const FindPage = lazy(() => import('./features/find/FindPage'))
const OwnPage = lazy(() => import('./features/people/OwnPage'))
const PeoplePage = lazy(() => import('./features/people/PeoplePage'))
const NoticesPage = lazy(() => import('./features/notices/NoticesPage'))
const SettingsPage = lazy(() => import('./features/settings/SettingsPage'))
const TrailPage = lazy(() => import('./features/trail/TrailPage'))
const StorePage = lazy(() => import('./features/stores/StorePage'))
const InventoryPage = lazy(() => import('./features/stores/InventoryPage'))
const BrowsePage = lazy(() => import('./features/stores/BrowsePage'))

const PAGES = [
  ['/', 'Today'],
  ['/copy', 'Copy now'],
  ['/jobs', 'Jobs'],
  ['/schedule', 'Schedule'],
  ['/runs', 'Runs'],
  ['/audits', 'Audits'],
  ['/stores', 'Stores'],
  ['/find', 'Find'],
] as const
const ADMINISTRATORS = [
  ['/people', 'People'],
  ['/notices', 'Notices'],
  ['/trail', 'Trail'],
  ['/settings', 'Settings'],
] as const

export function App() {
  const session = useSession()
  useEffect(() => keepCsrf(session.data?.csrf ?? ''), [session.data])
  return (
    <Loaded query={session}>
      {(told) => (told.name ? <House name={told.name} session={told} /> : <Outside />)}
    </Loaded>
  )
}

const MOST_LETTERS = 16 // of a name at the head of the page

function Outside() {
  return useLocation().pathname === '/enter' ? <Enter /> : <SignIn />
}

function House({ name, session }: { name: string; session: Session }) {
  const { token } = theme.useToken()
  const wide = Grid.useBreakpoint().md
  const { pathname } = useLocation()
  const shownIn = useSyncExternalStore(zone.subscribe, zone.now)
  const isDue = session.second_factor === 'due'
  const pages = isDue ? [] : [...PAGES, ...(session.administers_all ? ADMINISTRATORS : [])]
  const here =
    [...pages]
      .reverse()
      .find(([to]) => (to === '/' ? pathname === '/' : pathname.startsWith(to)))?.[0] ?? ''
  const signOut = async () => {
    await got(api.DELETE('/api/v1/session'))
    globalThis.location.assign('/') // nothing that was seen stays in memory
  }
  return (
    <Layout style={{ minHeight: '100vh' }}>
      <a
        href="#page"
        className="skip"
        style={{ position: 'absolute', left: -9999 }}
        onFocus={(e) => {
          e.currentTarget.style.left = '8px'
        }}
        onBlur={(e) => {
          e.currentTarget.style.left = '-9999px'
        }}
      >
        To the page
      </a>
      <Layout.Header
        style={{
          background: token.colorBgContainer,
          borderBottom: `1px solid ${token.colorBorderSecondary}`,
          padding: wide ? '0 24px' : '0 8px',
          height: wide ? 52 : 'auto',
          lineHeight: wide ? '50px' : '44px',
        }}
      >
        <Flex align="center" justify="space-between" gap={wide ? 24 : 0} wrap={!wide}>
          <Link
            to="/"
            style={{
              color: token.colorPrimary,
              fontWeight: 600,
              fontSize: 17,
              whiteSpace: 'nowrap',
              paddingInline: wide ? 0 : 6,
            }}
          >
            Pine Cart
          </Link>
          <Menu
            mode="horizontal"
            disabledOverflow
            selectedKeys={[here]}
            style={{
              flex: wide ? 1 : '1 0 100%',
              order: wide ? 0 : 1,
              borderBottom: 0,
              background: 'transparent',
              lineHeight: 'inherit',
            }}
            items={pages.map(([to, label]) => ({
              key: to,
              label: <Link to={to}>{label}</Link>,
              style: { paddingInline: wide ? 10 : 6 },
            }))}
          />
          <Flex align="center" gap={8}>
            {wide && (
              <Typography.Text type="secondary">
                <Link to="/me" style={UNDERLINED} title={name}>
                  {name.length > MOST_LETTERS ? `${name.slice(0, MOST_LETTERS)}…` : name}
                </Link>{' '}
                · times in <ZoneChoice />
              </Typography.Text>
            )}
            {!wide && <Link to="/me">{name}</Link>}
            <Finder pages={isDue ? pages : [...pages, ['/history', 'History']]} />
            <Button
              type="text"
              onClick={() => void signOut()}
              style={wide ? {} : { paddingInline: 6 }}
            >
              Sign out
            </Button>
          </Flex>
        </Flex>
      </Layout.Header>
      <Layout.Content
        key={shownIn}
        id="page"
        style={{
          padding: wide ? '20px 24px 48px' : '16px 12px 48px',
          maxWidth: 1240,
          width: '100%',
          margin: '0 auto',
        }}
      >
        <Away />
        <Broken key={pathname}>
          <Suspense fallback={<Coming />}>
            {isDue ? (
              <OwnPage />
            ) : (
              <Routes>
                <Route path="me" element={<OwnPage />} />
                <Route path="people" element={<PeoplePage />} />
                <Route path="runs/:id/compare" element={<ComparePage />} />
                <Route path="history" element={<HistoryPage />} />
                <Route path="audits" element={<AuditsPage />} />
                <Route path="notices" element={<NoticesPage />} />
                <Route path="trail" element={<TrailPage />} />
                <Route path="settings" element={<SettingsPage />} />
                <Route path="enter" element={<Navigate to="/" replace />} />
                <Route index element={<TodayPage />} />
                <Route path="copy" element={<CopyNow />} />
                <Route path="jobs" element={<JobsPage />} />
                <Route path="schedule" element={<SchedulePage />} />
                <Route path="jobs/files" element={<JobFilesPage />} />
                <Route path="jobs/new" element={<JobForm />} />
                <Route path="jobs/:name" element={<JobPage />} />
                <Route path="jobs/:name/explain" element={<ExplainPage />} />
                <Route path="jobs/:name/change" element={<JobForm />} />
                <Route path="previews/:id" element={<PreviewPage />} />
                <Route path="audits/:id" element={<AuditPage />} />
                <Route path="runs" element={<RunsPage />} />
                <Route path="runs/:id" element={<RunPage />} />
                <Route path="sides" element={<SidesPage />} />
                <Route path="find" element={<FindPage />} />
                <Route path="stores" element={<StoresPage />} />
                <Route path="stores/:name/about" element={<StorePage />} />
                <Route path="inventories/:id" element={<InventoryPage />} />
                <Route path="stores/new" element={<StoreForm />} />
                <Route path="stores/:name" element={<BrowsePage />} />
                <Route path="stores/:name/change" element={<StoreForm />} />
                <Route
                  path="*"
                  element={
                    <PageHead title="There is no such page">
                      <Link to="/">To today</Link>
                    </PageHead>
                  }
                />
              </Routes>
            )}
          </Suspense>
        </Broken>
      </Layout.Content>
    </Layout>
  )
}
