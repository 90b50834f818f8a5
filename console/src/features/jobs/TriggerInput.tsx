import { Flex, Form, Grid, Segmented } from 'antd'
import type { Definition, Forms } from '../../api/client'
import { FieldInput, filledIn, type HelpFor } from '../../parts/FieldInput'

const BY_HAND = 'by-hand'
type Kinds = Forms['triggers']

/** When a job starts by itself: one of the kinds that the service knows, or never. */
export function TriggerInput({ kinds, help }: { kinds: Kinds; help: HelpFor }) {
  const chosen = Form.useWatch('trigger') as string | undefined
  const kind = kinds.find((k) => k.kind === chosen)
  const isNarrow = !Grid.useBreakpoint().sm
  return (
    <>
      <Form.Item label="When" name="trigger">
        <Segmented
          vertical={isNarrow}
          options={[
            { value: BY_HAND, label: 'When started' },
            ...kinds.map((k) => ({ value: k.kind, label: k.title })),
          ]}
        />
      </Form.Item>
      {kind && (
        <Flex gap={12} wrap>
          {kind.fields.map((f) => (
            <div key={f.name} style={{ flex: '1 1 220px', maxWidth: 320 }}>
              <FieldInput
                field={f}
                required={f.is_needed}
                help={(field) => help(`schedule.${field}`)}
              />
            </div>
          ))}
        </Flex>
      )}
    </>
  )
}

export function triggerOf(old: Definition | undefined, kinds: Kinds) {
  if (!old?.schedule) return { trigger: BY_HAND, zone: ownZone() }
  return { trigger: old.schedule.kind ?? kinds[0]?.kind ?? BY_HAND, ...old.schedule }
}

const ownZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone

/** The schedule that was filled in; null: when started. */
export function scheduleOf(values: Record<string, unknown>, kinds: Kinds): Definition['schedule'] {
  const kind = kinds.find((k) => k.kind === values.trigger)
  if (!kind) return null
  const named = kind === kinds[0] ? {} : { kind: kind.kind }
  return { ...named, ...filledIn(kind.fields, values) } as Definition['schedule']
}
