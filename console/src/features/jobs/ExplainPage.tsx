import { useQuery } from '@tanstack/react-query'
import { Card, Empty, Flex, Input, Typography } from 'antd'
import { Link, useParams, useSearchParams } from 'react-router'
import type { Explanation } from '../../api/client'
import { explainQuery } from '../../api/jobs'
import { UNDERLINED } from '../../parts/layout'
import { FromTo, Loaded, PageHead } from '../../parts/parts'

/** Why one file is carried, or isn't: each rule in its order, and the one that decided. */
export default function ExplainPage() {
  const { name = '' } = useParams()
  const [asked, setAsked] = useSearchParams()
  const key = asked.get('key') ?? ''
  const query = useQuery({ ...explainQuery(name, key), enabled: !!key })
  return (
    <>
      <PageHead title={`Why this file? ${name}`}>
        <Link to={`/jobs/${name}`}>The job</Link>
      </PageHead>
      <Input.Search
        aria-label="Name of the file"
        defaultValue={key}
        placeholder="folder/name, as at the source"
        enterButton="Ask"
        onSearch={(text) => setAsked(text ? { key: text } : {})}
        style={{ maxWidth: 640, marginBottom: 16 }}
      />
      {key ? (
        <Loaded query={query}>
          {(legs) => (
            <Flex vertical gap={16}>
              {legs.map((leg) => (
                <Leg key={leg.leg} told={leg} />
              ))}
            </Flex>
          )}
        </Loaded>
      ) : (
        <Empty
          image={Empty.PRESENTED_IMAGE_SIMPLE}
          description="Name a file: it is said which rules it meets, in their order, and which one decides. Nothing is carried."
        />
      )}
    </>
  )
}

function Leg({ told }: { told: Explanation }) {
  return (
    <Card size="small" title={<FromTo from={told.places.from} to={told.places.to} />}>
      <ol style={{ margin: 0, paddingInlineStart: 22 }}>
        {told.steps.map((step) => (
          <li key={step.rule}>
            <Typography.Text type="secondary">{step.rule.replace('_', ' ')}: </Typography.Text>
            <Typography.Text strong={step.decides}>
              {step.decides && '→ '}
              {step.words}
            </Typography.Text>
          </li>
        ))}
      </ol>
      {told.records.length > 0 && (
        <>
          <Typography.Title level={5} style={{ margin: '12px 0 4px' }}>
            What was done to it
          </Typography.Title>
          {told.records.slice(0, 20).map((record) => (
            <div key={record.run}>
              <Link to={`/runs/${record.run}`} style={UNDERLINED}>
                Run {record.run}
              </Link>
              : {record.decision}, {record.reason}{' '}
              {record.error === record.reason ? '' : record.error || record.proof}
            </div>
          ))}
        </>
      )}
    </Card>
  )
}
