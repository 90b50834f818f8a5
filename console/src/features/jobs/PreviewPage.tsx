import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Card, Segmented, Typography } from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, got } from '../../api/client'
import { previewQuery } from '../../api/runs'
import { FilesTable } from '../../parts/FilesTable'
import { count } from '../../lib/words'
import { Failed, FromTo, Loaded, PageHead } from '../../parts/parts'

/** The dangerous ones first. */
const ORDER = ['remove', 'clear', 'replace', 'copy', 'refuse'] as const
const WORDS: Record<(typeof ORDER)[number], string> = {
  remove: 'Remove',
  clear: 'Clear at the source',
  replace: 'Replace',
  copy: 'Copy',
  refuse: 'Refuse',
}

export default function PreviewPage() {
  const number = Number(useParams().id)
  const query = useQuery({
    ...previewQuery(number),
    refetchInterval: (q) => (q.state.data?.state === 'ended' ? false : 700),
  })
  const [show, setShow] = useState<string | null>(null)
  const totals = query.data?.totals
  const kinds = totals
    ? [
        ...ORDER.filter((d) => totals[d].objects).map((d) => ({
          value: d,
          label: `${WORDS[d]} ${count(totals[d].objects)}`,
        })),
        { value: '', label: 'All' },
      ]
    : []
  const shown = show ?? kinds[0]?.value ?? ''
  return (
    <Loaded query={query}>
      {(told) => (
        <>
          <PageHead title={told.state === 'ended' ? told.sentence : 'Working the preview out…'}>
            {told.job !== 'carry' && <Link to={`/jobs/${told.job}`}>{told.job}</Link>}
            {told.state === 'ended' && told.of != null && <Undo of={told.of} />}
          </PageHead>
          {told.legs.map((leg) => (
            <div key={leg.to} style={{ marginBottom: 12 }}>
              <FromTo from={leg.from} to={leg.to} />
            </div>
          ))}
          {told.message && (
            <Typography.Paragraph type="warning">▲ {told.message}</Typography.Paragraph>
          )}
          {told.state === 'ended' && (
            <Card
              size="small"
              title="What would be done"
              extra={
                <Segmented aria-label="Show" value={shown} onChange={setShow} options={kinds} />
              }
            >
              <FilesTable
                of={['preview', number, shown]}
                empty="Nothing would be copied, replaced or removed: both sides are as they should be."
                page={(after) =>
                  got(
                    api.GET('/api/v1/previews/{number}/objects', {
                      params: { path: { number }, query: { after, limit: 200, decision: shown } },
                    }),
                  )
                }
              />
            </Card>
          )}
        </>
      )}
    </Loaded>
  )
}

/** A preview of undoing a run leads to doing it. */
function Undo({ of }: { of: number }) {
  const go = useNavigate()
  const undo = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/runs/{number}/undo', {
          params: { path: { number: of } },
          body: { preview: false },
        }),
      ),
    onSuccess: (told) => go(`/runs/${told.id}`),
  })
  return (
    <>
      {undo.error && <Failed error={undo.error} />}
      <Button type="primary" onClick={() => undo.mutate()} loading={undo.isPending}>
        Undo run {of}
      </Button>
    </>
  )
}
