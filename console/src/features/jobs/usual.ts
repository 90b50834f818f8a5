/** From the tenth to the ninetieth of a hundred: what most of these are. Not empty. */
export function usualRange(values: number[]): [number, number] {
  const sorted = values.toSorted((a, b) => a - b)
  const at = (share: number) => sorted[Math.round(share * (sorted.length - 1))] ?? 0
  return [at(0.1), at(0.9)]
}
