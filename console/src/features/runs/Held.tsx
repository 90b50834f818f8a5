import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Card, Flex, Input, theme, Typography } from 'antd'
import { useState } from 'react'
import { api, got, type RunWhole } from '../../api/client'
import { files, size } from '../../lib/words'
import { FilesTable } from '../../parts/FilesTable'
import { Failed, useMay } from '../../parts/parts'

/** What "Go on" does, in one line: what happens to how many files, at which side. */
function consequence(run: RunWhole): string {
  const n = (what: string) =>
    run.held?.lists.filter((l) => l.what === what).reduce((sum, l) => sum + l.objects, 0) ?? 0
  const at = run.legs[0]?.to.replace('pine://', '').split('/')[0] ?? ''
  const fate = run.set_aside ? 'will be set aside' : 'will be deleted for good'
  const said = [
    n('removals') && `${files(n('removals'))} ${fate}`,
    n('replacements') && `${files(n('replacements'))} will be replaced`,
    n('missing') && `${files(n('missing'))} will be copied again`,
  ].filter(Boolean)
  if (run.held?.lists.some((l) => l.what === 'places')) return 'Go on at the new address'
  return said.length ? `Go on: ${said.join(', ')} at ${at}` : 'Go on with the new key'
}

/** A run that waits for a yes: its list, and the two answers. Made for a telephone as well. */
export function Held({ run }: { run: RunWhole }) {
  const { token } = theme.useToken()
  const mayOperate = useMay('operate')
  const queries = useQueryClient()
  const [why, setWhy] = useState('')
  const answered = () => queries.invalidateQueries()
  const path = { number: run.id }
  const release = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/runs/{number}/release', {
          params: { path },
          body: { digest: run.held?.digest ?? '', why },
        }),
      ),
    onSettled: answered,
  })
  const decline = useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/runs/{number}/decline', { params: { path }, body: { why } })),
    onSettled: answered,
  })
  const lists = run.held?.lists ?? []
  const hasFiles = lists.some((l) => l.objects > 0)
  return (
    <Card
      size="small"
      title={<span style={{ color: token.colorWarning }}>◆ It waits for your yes</span>}
      style={{ marginBottom: 16 }}
    >
      {lists.map((list) => (
        <Typography.Paragraph key={list.what + String(list.leg)} style={{ marginBottom: 8 }}>
          {list.message}
          {list.objects ? ` (${size(list.bytes)})` : ''}
        </Typography.Paragraph>
      ))}
      <Typography.Paragraph type="secondary">
        {!hasFiles
          ? lists.length
            ? ''
            : run.message
          : run.set_aside
            ? `What is removed or replaced can be brought back for ${run.set_aside} days.`
            : 'It is not set aside: it can’t be brought back.'}
      </Typography.Paragraph>
      {mayOperate && (
        <>
          <Input
            aria-label="Reason"
            placeholder="A reason, for the trail (optional)"
            value={why}
            onChange={(e) => setWhy(e.target.value)}
            style={{ marginBottom: 12, maxWidth: 560, minHeight: 44 }}
          />
          <Flex gap={12} wrap style={{ marginBottom: 12 }}>
            <Button
              type="primary"
              danger={!run.set_aside && hasFiles}
              style={{ minHeight: 44, height: 'auto', whiteSpace: 'normal' }}
              onClick={() => release.mutate()}
              loading={release.isPending}
              disabled={decline.isPending}
            >
              {consequence(run)}
            </Button>
            <Button
              style={{ minHeight: 44 }}
              onClick={() => decline.mutate()}
              loading={decline.isPending}
              disabled={release.isPending}
            >
              Cancel: leave them as they are
            </Button>
          </Flex>
        </>
      )}
      {(release.error ?? decline.error) && <Failed error={release.error ?? decline.error} />}
      {hasFiles && (
        <FilesTable
          of={['held', run.id, run.held?.digest]}
          empty="The list is empty."
          page={(after) =>
            got(
              api.GET('/api/v1/runs/{number}/objects', {
                params: { path, query: { after, limit: 200, held: true } },
              }),
            )
          }
        />
      )}
    </Card>
  )
}
