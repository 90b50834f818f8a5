import { useQuery } from '@tanstack/react-query'
import { Button, Empty, Flex, Typography } from 'antd'
import { useState } from 'react'
import type { FolderTotals } from '../../api/client'
import { levelQuery } from '../../api/runs'
import { count, REASONS } from '../../lib/words'
import { Bytes, Loaded } from '../../parts/parts'

/** The dangerous ones first: a sign, a word, always together. */
export const DECISIONS = [
  ['remove', '− remove'],
  ['clear', '− clear here'],
  ['replace', '≠ replace'],
  ['copy', '+ copy'],
  ['refuse', '▲ refuse'],
] as const
const SHOWN_FILES = 200

/** What would be done in one folder: its folders with their counts, opened where wanted; its files. */
export function DecisionTree({
  preview,
  leg,
  prefix = '',
}: {
  preview: number
  leg: number
  prefix?: string
}) {
  const query = useQuery(levelQuery(preview, leg, prefix, SHOWN_FILES))
  return (
    <Loaded query={query}>
      {({ folders, files }) =>
        folders.length + files.length ? (
          <ul style={{ listStyle: 'none', margin: 0, paddingInlineStart: prefix ? 22 : 0 }}>
            {folders.map((folder) => (
              <Folder key={folder.key_id} preview={preview} leg={leg} told={folder} at={prefix} />
            ))}
            {files.map((file) => (
              <li key={file.id}>
                <Flex gap={12} wrap justify="space-between">
                  <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
                    {file.key.slice(prefix.length)}
                  </Typography.Text>
                  <span>
                    {DECISIONS.find(([word]) => word === file.decision)?.[1] ?? file.decision},{' '}
                    {REASONS[file.reason] ?? file.reason} · <Bytes n={file.bytes} />
                  </span>
                </Flex>
              </li>
            ))}
            {files.length === SHOWN_FILES && (
              <li>
                <Typography.Text type="secondary">
                  and more: the list shows all of them
                </Typography.Text>
              </li>
            )}
          </ul>
        ) : (
          <Empty
            image={Empty.PRESENTED_IMAGE_SIMPLE}
            description="Nothing would be copied, replaced or removed: both sides are as they should be."
          />
        )
      }
    </Loaded>
  )
}

function Folder({
  preview,
  leg,
  told,
  at,
}: {
  preview: number
  leg: number
  told: FolderTotals
  at: string
}) {
  const [isOpen, setOpen] = useState(false)
  return (
    <li>
      <Flex gap={12} wrap justify="space-between" align="baseline">
        <Button
          type="text"
          size="small"
          aria-expanded={isOpen}
          onClick={() => setOpen(!isOpen)}
          style={{ fontFamily: 'monospace', paddingInline: 4 }}
        >
          {isOpen ? '▾' : '▸'} {told.key.slice(at.length)}
        </Button>
        <span>
          {DECISIONS.filter(([word]) => told.totals[word].objects).map(([word, sign]) => (
            <span key={word} style={{ marginInlineStart: 14 }}>
              {sign} {count(told.totals[word].objects)}{' '}
              <Typography.Text type="secondary">
                <Bytes n={told.totals[word].bytes} />
              </Typography.Text>
            </span>
          ))}
        </span>
      </Flex>
      {isOpen && <DecisionTree preview={preview} leg={leg} prefix={told.key_id} />}
    </li>
  )
}
