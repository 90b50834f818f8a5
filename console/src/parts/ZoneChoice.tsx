import { Button, Popover, Select } from 'antd'
import { useSyncExternalStore } from 'react'
import { ownZone, zone } from '../lib/zone'

/** In which zone exact times are shown: chosen once, and kept in this browser. */
export function ZoneChoice() {
  const chosen = useSyncExternalStore(zone.subscribe, zone.now)
  const choose = (
    <Select
      aria-label="Time zone"
      showSearch
      value={chosen}
      onChange={zone.choose}
      style={{ width: 240 }}
      options={['UTC', ownZone(), ...Intl.supportedValuesOf('timeZone')]
        .filter((name, n, all) => all.indexOf(name) === n)
        .map((value) => ({ value }))}
    />
  )
  return (
    <Popover content={choose} trigger="click" placement="bottomRight">
      <Button type="link" size="small" style={{ padding: 0 }} aria-label="Choose the time zone">
        {chosen}
      </Button>
    </Popover>
  )
}
