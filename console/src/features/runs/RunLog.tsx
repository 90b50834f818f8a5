import { Button, Flex, Input, Select } from 'antd'
import { useEffect, useState } from 'react'
import type { RunWhole } from '../../api/client'
import { logAfter, type LogAsked } from '../../api/runs'

interface Line {
  at: string
  level?: string
  message: string
  key?: string
  code?: string
}

const EVERY_MS = 1000
const LEVELS = [
  { value: 'info', label: 'Everything' },
  { value: 'warning', label: 'Warnings and errors' },
  { value: 'error', label: 'Errors' },
]

/** A run's log: live, filtered, searched; read on from where one stands. */
export function RunLog({ run }: { run: RunWhole }) {
  const [asked, setAsked] = useState<LogAsked>({ level: 'info', text: '' })
  return (
    <>
      <Flex gap={8} wrap style={{ marginBottom: 8 }}>
        <Select
          aria-label="Which lines"
          style={{ width: 200 }}
          value={asked.level}
          onChange={(level) => setAsked({ ...asked, level })}
          options={LEVELS}
        />
        <Input.Search
          aria-label="Text in a line"
          allowClear
          placeholder="Text in a line"
          style={{ width: 240 }}
          onSearch={(text) => setAsked({ ...asked, text })}
        />
        <Button href={`/api/v1/runs/${run.id}/log/file`}>Download</Button>
      </Flex>
      <Lines
        key={`${asked.level} ${asked.text} ${run.state === 'ended'}`}
        number={run.id}
        asked={asked}
        isOver={run.state === 'ended'}
      />
    </>
  )
}

interface LinesProps {
  number: number
  asked: LogAsked
  isOver: boolean
}

function Lines({ number, asked, isOver }: LinesProps) {
  const [lines, setLines] = useState<Line[]>([])
  const [isRead, setRead] = useState(false)
  useEffect(() => {
    let isHere = true
    let after = 0
    let isReading = false
    const readOn = async () => {
      if (isReading) return
      isReading = true
      for (;;) {
        const found = await logAfter(number, after, asked)
        if (!isHere) return
        const stands = after
        after = found.next
        if (found.lines.length) setLines((before) => [...before, ...(found.lines as never[])])
        if (after === stands) break
      }
      isReading = false
      setRead(true)
    }
    void readOn()
    const timer = isOver ? undefined : setInterval(() => void readOn(), EVERY_MS)
    return () => {
      isHere = false
      clearInterval(timer)
    }
  }, [number, asked, isOver])
  const text = lines.map(told).join('\n')
  return (
    <pre
      style={{
        fontSize: 12,
        whiteSpace: 'pre-wrap',
        overflowWrap: 'anywhere',
        maxHeight: 420,
        overflowY: 'auto',
        margin: 0,
      }}
      tabIndex={0}
      aria-label="Log"
    >
      {text || (isRead ? 'No lines like that.' : '')}
    </pre>
  )
}

const SIGNS: Record<string, string> = { warning: '▲ ', error: '✗ ' }

function told(line: Line): string {
  const sign = SIGNS[line.level ?? ''] ?? ''
  const code = line.code ? `  (${line.code})` : ''
  const key = line.key ? `  ${line.key}` : ''
  return `${line.at.slice(11, 23)}  ${sign}${line.message}${key}${code}`
}
