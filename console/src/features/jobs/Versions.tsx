import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Card, Flex, Popconfirm, Typography } from 'antd'
import { useState } from 'react'
import { api, got, type Job, type JobVersion } from '../../api/client'
import { versionsQuery } from '../../api/jobs'
import { Ago, Failed, Loaded, useMay } from '../../parts/parts'
import { Differences } from './Differences'

const SHOWN = 3

/** The definitions a job had, what each changed, and the way back to one. */
export function Versions({ job }: { job: Job }) {
  const query = useQuery({ ...versionsQuery(job.job), refetchInterval: 30_000 })
  const [shown, setShown] = useState(SHOWN)
  return (
    <Card size="small" title="Versions" style={{ marginTop: 16 }}>
      <Loaded query={query}>
        {(versions) => (
          <>
            {versions.slice(0, shown).map((version) => (
              <OneVersion key={version.version} job={job} version={version} />
            ))}
            {versions.length > shown && (
              <Button type="link" onClick={() => setShown(versions.length)} style={{ padding: 0 }}>
                {versions.length - shown} older
              </Button>
            )}
          </>
        )}
      </Loaded>
    </Card>
  )
}

function OneVersion({ job, version }: { job: Job; version: JobVersion }) {
  const queries = useQueryClient()
  const { message } = App.useApp()
  const mayDefine = useMay('define')
  const back = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/jobs/{name}/back', {
          params: { path: { name: job.job } },
          body: { version: version.version },
        }),
      ),
    onSuccess: async (made) => {
      void message.success(`As in version ${version.version}, now version ${made.version}.`)
      await queries.invalidateQueries()
    },
  })
  const isPresent = version.version === job.version
  return (
    <div style={{ marginBottom: 8 }}>
      <Flex justify="space-between" align="baseline" gap={8}>
        <span>
          Version {version.version}
          {isPresent && ', the present one'}{' '}
          <Typography.Text type="secondary">
            {version.saved_by}, <Ago at={version.saved_at} />
          </Typography.Text>
        </span>
        {mayDefine && !isPresent && (
          <Popconfirm
            title={`Save ${job.job} again as it was in version ${version.version}?`}
            okText="Save"
            onConfirm={() => back.mutate()}
          >
            <Button size="small" loading={back.isPending}>
              Go back to it
            </Button>
          </Popconfirm>
        )}
      </Flex>
      <Differences of={version.differences} />
      {back.error != null && <Failed error={back.error} />}
    </div>
  )
}
