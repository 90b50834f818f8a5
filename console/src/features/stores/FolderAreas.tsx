import { theme } from 'antd'
import { Link } from 'react-router'
import { ResponsiveContainer, Treemap } from 'recharts'
import type { FolderSum } from '../../api/client'
import { count, size } from '../../lib/words'

const LEAST_WIDTH = 70 // px: less has no room for a name
const LEAST_HEIGHT = 32
const CHARACTER = 7.2

interface Area {
  [name: string]: unknown
  name: string
  to: string
  bytes: number
  told: string
}

/** Each folder as an area as large as its bytes; one enters it. */
export default function FolderAreas({ folders, of }: { folders: FolderSum[]; of: FolderSum }) {
  const data: Area[] = folders.map((folder) => {
    const name = folder.key.slice(of.key.length)
    return {
      name,
      to: `?folder=${encodeURIComponent(folder.key_id)}`,
      bytes: Math.max(folder.bytes, 1),
      told: `${name}: ${count(folder.objects)} files, ${size(folder.bytes)}`,
    }
  })
  const others = of.others[2] ?? 0
  if (others)
    data.push({ name: 'others', to: '', bytes: others, told: `smaller folders: ${size(others)}` })
  return (
    <div role="group" aria-label={`Folders by their bytes, ${size(of.bytes)} in all`}>
      <ResponsiveContainer width="100%" height={300}>
        <Treemap
          data={data}
          dataKey="bytes"
          isAnimationActive={false}
          content={(area) => <Drawn {...(area as unknown as DrawnProps)} />}
        />
      </ResponsiveContainer>
    </div>
  )
}

interface DrawnProps extends Partial<Area> {
  x: number
  y: number
  width: number
  height: number
  depth: number
}

function Drawn({
  x,
  y,
  width,
  height,
  depth,
  name = '',
  to = '',
  told = '',
  bytes = 0,
}: DrawnProps) {
  const { token } = theme.useToken()
  if (!depth) return <g />
  const fits = width > LEAST_WIDTH && height > LEAST_HEIGHT
  const letters = Math.floor((width - 12) / CHARACTER)
  const drawn = (
    <>
      <title>{told}</title>
      <rect
        x={x}
        y={y}
        width={width}
        height={height}
        fill={token.colorPrimary}
        stroke={token.colorBgContainer}
        strokeWidth={2}
      />
      {fits && height > 2 * LEAST_HEIGHT && (
        <text x={x + 8} y={y + 38} fontSize={12} fill={token.colorBgContainer}>
          {size(bytes)}
        </text>
      )}
      {fits && (
        <text x={x + 8} y={y + 20} fontSize={12} fill={token.colorBgContainer}>
          {name.length > letters ? `${name.slice(0, Math.max(letters - 1, 1))}…` : name}
        </text>
      )}
    </>
  )
  if (!to) return <g>{drawn}</g>
  return (
    <Link to={to} aria-label={told}>
      {drawn}
    </Link>
  )
}
