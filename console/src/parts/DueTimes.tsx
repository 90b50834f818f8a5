import { Typography } from 'antd'
import { exact } from '../lib/words'
import { zone } from '../lib/zone'
import { Ago } from './parts'

/** The next times that a job starts by itself. */
export function DueTimes({ due, most = 10 }: { due: readonly string[]; most?: number }) {
  if (!due.length) return null
  return (
    <ol aria-label="Next starts" style={{ margin: '4px 0 0', paddingInlineStart: 28 }}>
      {due.slice(0, most).map((at) => (
        <li key={at}>
          {exact(at).slice(0, 16)} {zone.now()}{' '}
          <Typography.Text type="secondary">
            <Ago at={at} />
          </Typography.Text>
        </li>
      ))}
    </ol>
  )
}
