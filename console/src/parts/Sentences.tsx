import { Typography } from 'antd'

/** What a job or a copy will do; what is removed or lost stands out. */
export function Sentences({ sentences, dangers }: { sentences: string[]; dangers: string[] }) {
  return (
    <ul style={{ paddingInlineStart: 18, margin: 0 }}>
      {sentences.map((s) => (
        <li key={s}>
          {dangers.includes(s) ? (
            <Typography.Text type="warning" strong>
              ▲ {s}
            </Typography.Text>
          ) : (
            s
          )}
        </li>
      ))}
    </ul>
  )
}
