import { useQuery } from '@tanstack/react-query'
import { Card, Typography } from 'antd'
import { Link } from 'react-router'
import type { Job } from '../../api/client'
import { noticesQuery } from '../../api/notices'
import { kindWords } from './kinds'

/** Who is told of a job: by itself, by one of its labels, or of all jobs. */
export function WhoIsTold({ job }: { job: Job }) {
  const rules = useQuery(noticesQuery()).data
  if (!rules) return null
  const labels = job.definition.labels ?? []
  const fits = rules.filter(
    (rule) =>
      rule.is_on &&
      (rule.job ? rule.job === job.job : rule.label ? labels.includes(rule.label) : true),
  )
  return (
    <Card
      size="small"
      title="Who is told"
      extra={<Link to="/notices">Notices</Link>}
      style={{ marginTop: 16 }}
    >
      {fits.map((rule) => (
        <div key={rule.id} style={{ overflowWrap: 'anywhere' }}>
          {rule.to.join(', ')}: {kindWords(rule.kinds)}
        </div>
      ))}
      {fits.length === 0 && (
        <Typography.Text type="secondary">
          Nobody is told when it fails or waits. Tell somebody under Notices.
        </Typography.Text>
      )}
    </Card>
  )
}
