import { useMutation } from '@tanstack/react-query'
import { Button, Flex, Typography } from 'antd'
import { api, got } from '../../api/client'
import { count, exact } from '../../lib/words'
import { Failed } from '../../parts/parts'

/** Whether the trail is as it was written; its newest signed head, to be kept elsewhere. */
export function Verify() {
  const verify = useMutation({ mutationFn: () => got(api.GET('/api/v1/trail/verify')) })
  const found = verify.data
  return (
    <>
      <Button onClick={() => verify.mutate()} loading={verify.isPending}>
        Verify
      </Button>
      <Button href="/api/v1/trail/export">Export</Button>
      {verify.error && <Failed error={verify.error} />}
      {found && (
        <Flex vertical role="status" style={{ flexBasis: '100%' }}>
          {found.is_whole ? (
            <span>✓ Whole: {count(found.lines)} lines, each as it was written.</span>
          ) : (
            found.faults.map((fault) => (
              <Typography.Text type="danger" key={`${fault.number} ${fault.words}`}>
                ✗ Line {count(fault.number)}: {fault.words}
              </Typography.Text>
            ))
          )}
          {found.signed && (
            <Typography.Text type="secondary">
              Head signed {exact(found.signed.at)}, to be kept elsewhere:{' '}
              <Typography.Text code copyable style={{ overflowWrap: 'anywhere' }}>
                {`${found.signed.lines}:${found.signed.digest}`}
              </Typography.Text>
            </Typography.Text>
          )}
        </Flex>
      )}
    </>
  )
}
