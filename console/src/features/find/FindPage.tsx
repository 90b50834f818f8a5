import { useQuery } from '@tanstack/react-query'
import { Card, Empty, Flex, Input, Typography } from 'antd'
import { Link, useSearchParams } from 'react-router'
import { findQuery } from '../../api/trail'
import { count, REASONS } from '../../lib/words'
import { Ago, Bytes, FromTo, Loaded, PageHead } from '../../parts/parts'

/** Where is this file, where did it come from? */
export default function FindPage() {
  const [asked, setAsked] = useSearchParams()
  const name = asked.get('name') ?? ''
  return (
    <>
      <PageHead title="Find a file" />
      <Input.Search
        aria-label="Name"
        autoFocus
        allowClear
        enterButton="Find"
        placeholder="Part of its name; * stands for anything"
        defaultValue={name}
        key={name}
        style={{ maxWidth: 560, marginBottom: 16 }}
        onSearch={(v) => setAsked(v.trim() ? { name: v.trim() } : {})}
      />
      {name ? (
        <Found name={name} />
      ) : (
        <Typography.Paragraph type="secondary">
          Every place where a run has put, replaced or removed a file of that name, and every run
          that touched it.
        </Typography.Paragraph>
      )}
    </>
  )
}

function Found({ name }: { name: string }) {
  const query = useQuery(findQuery(name))
  return (
    <Loaded query={query}>
      {(places) =>
        places.length === 0 ? (
          <Empty
            image={Empty.PRESENTED_IMAGE_SIMPLE}
            description={`No run has touched a file with ${name} in its name.`}
          />
        ) : (
          <Flex vertical gap={12}>
            <Typography.Text type="secondary">
              {count(places.length)} {places.length === 1 ? 'place' : 'places'}
            </Typography.Text>
            {places.map((place) => (
              <Card
                size="small"
                key={place.from + place.to + place.key}
                title={<FromTo from={place.from + place.key} to={place.to + place.key} />}
                extra={<Bytes n={place.bytes} />}
              >
                {place.runs.map((touch) => (
                  <Flex key={touch.run} gap={12} wrap>
                    <Link to={`/runs/${touch.run}`}>run {touch.run}</Link>
                    <span>{touch.job}</span>
                    <span style={{ flex: 1, minWidth: 180 }}>
                      {touch.error
                        ? `▲ ${touch.error}`
                        : `${touch.done ? '' : 'not done, '}${touch.decision}: ${REASONS[touch.reason] ?? touch.reason}`}
                    </span>
                    {touch.checksum && (
                      <Typography.Text type="secondary" code>
                        {touch.checksum}
                      </Typography.Text>
                    )}
                    <Ago at={touch.at} />
                  </Flex>
                ))}
              </Card>
            ))}
          </Flex>
        )
      }
    </Loaded>
  )
}
