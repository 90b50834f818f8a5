import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Modal, Typography } from 'antd'
import { useState } from 'react'
import { api, got } from '../../api/client'
import { Failed } from '../../parts/parts'

/** An address that calendars subscribe to. It holds a token that can do nothing else. */
export function CalendarAddress() {
  const [isOpen, setOpen] = useState(false)
  const queries = useQueryClient()
  const make = useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/tokens', { body: { name: 'calendar', reads_calendar: true } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['tokens'] }),
  })
  const close = () => {
    setOpen(false)
    make.reset()
  }
  const address = `${window.location.origin}/api/v1/schedule/calendar?key=${make.data?.token}`
  return (
    <>
      <Button onClick={() => setOpen(true)}>As a calendar</Button>
      <Modal
        open={isOpen}
        title="The schedule as a calendar"
        onCancel={close}
        onOk={() => (make.data ? close() : make.mutate())}
        okText={make.data ? 'I have it' : 'Make an address'}
        confirmLoading={make.isPending}
      >
        {make.data ? (
          <>
            <Typography.Paragraph>
              Subscribe to this address, which is told this once. Whoever has it sees what is due,
              and can do nothing else; it ends when its token “calendar” is revoked, on your own
              page.
            </Typography.Paragraph>
            <Typography.Text code copyable style={{ overflowWrap: 'anywhere' }}>
              {address}
            </Typography.Text>
          </>
        ) : (
          <Typography.Paragraph>
            A calendar program can show what runs when, for the jobs that you may see, two weeks
            ahead. It needs an address of its own.
          </Typography.Paragraph>
        )}
        {make.error && <Failed error={make.error} />}
      </Modal>
    </>
  )
}
