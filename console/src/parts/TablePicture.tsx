import { Segmented } from 'antd'
import { useState, type ReactNode } from 'react'

/** A picture, and the same as a table: for whoever reads numbers better. */
export function TablePicture({ picture, table }: { picture: ReactNode; table: ReactNode }) {
  const [asTable, setAsTable] = useState(false)
  return (
    <>
      <div style={{ display: 'flex', justifyContent: 'flex-end', marginBottom: 4 }}>
        <Segmented
          size="small"
          aria-label="How to show it"
          value={asTable}
          onChange={setAsTable}
          options={[
            { value: false, label: 'Picture' },
            { value: true, label: 'Table' },
          ]}
        />
      </div>
      {asTable ? table : picture}
    </>
  )
}
