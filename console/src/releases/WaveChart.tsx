import Box from '@mui/material/Box'
import { useTheme } from '@mui/material/styles'
import { useQuery } from '@tanstack/react-query'
import { api, type Wave } from '../api/api'

const width = 220
const height = 44

/** How a wave stood over time: right below, wrong in the middle, silent above. */
export function WaveChart({ release, wave }: { release: number; wave: Wave }) {
  const { palette } = useTheme()
  const samples = useQuery({
    queryKey: ['samples', release, wave.number],
    queryFn: () => api.waveSamples(release, wave.number),
    refetchInterval: 20_000,
  })
  const now = { at: new Date().toISOString(), good: wave.good, wrong: wave.wrong, silent: wave.silent }
  const all = [...(samples.data ?? []), now]
  const from = new Date(wave.opened ?? now.at).getTime()
  const to = Math.max(new Date(now.at).getTime(), from + 1)
  const x = (at: string) => (width * Math.max(0, new Date(at).getTime() - from)) / (to - from)
  const y = (n: number) => height - (height * n) / Math.max(1, wave.people)
  // each sample holds until the next
  const area = (below: (s: typeof now) => number, above: (s: typeof now) => number) => {
    const steps = all.flatMap((s, i) => {
      const end = all[i + 1] ? x(all[i + 1]?.at ?? now.at) : width
      return [
        [i === 0 ? 0 : x(s.at), s],
        [end, s],
      ] as [number, typeof now][]
    })
    const up = steps.map(([at, s]) => `${at.toFixed(1)},${y(above(s)).toFixed(1)}`)
    const down = [...steps].reverse().map(([at, s]) => `${at.toFixed(1)},${y(below(s)).toFixed(1)}`)
    return [...up, ...down].join(' ')
  }
  return (
    <Box
      component="svg"
      role="img"
      aria-label={`Wave ${wave.number}: ${wave.good} right, ${wave.wrong} wrong, ${wave.silent} silent of ${wave.people}`}
      viewBox={`0 0 ${width} ${height}`}
      preserveAspectRatio="none"
      sx={{ width, height, display: 'block', border: 1, borderColor: 'divider' }}
    >
      <polygon
        points={area(
          () => 0,
          (s) => s.good,
        )}
        fill={palette.success.main}
      />
      <polygon
        points={area(
          (s) => s.good,
          (s) => s.good + s.wrong,
        )}
        fill={palette.error.main}
      />
    </Box>
  )
}
