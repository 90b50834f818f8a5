import { Typography } from 'antd'
import type { Difference } from '../../api/client'

/** What changes from one definition to another, a line each. */
export function Differences({ of }: { of: readonly Difference[] }) {
  return (
    <ul style={{ margin: 0, paddingInlineStart: 20 }}>
      {of.map((difference) => (
        <li key={difference.field} style={{ overflowWrap: 'anywhere' }}>
          {difference.title}: <Typography.Text delete>{difference.before}</Typography.Text> →{' '}
          <strong>{difference.after}</strong>
        </li>
      ))}
    </ul>
  )
}
