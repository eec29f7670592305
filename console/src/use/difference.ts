/** A line of one of two texts, and whether the other one lacks it. */
export interface ComparedLine {
  text: string
  differs: boolean
}

/** ordered is a value with the names of its members in order, so that two can be compared line by line. */
function ordered(v: unknown): unknown {
  if (Array.isArray(v)) return v.map(ordered)
  if (v === null || typeof v !== 'object') return v
  return Object.fromEntries(
    Object.entries(v)
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([k, x]) => [k, ordered(x)]),
  )
}

const linesOf = (v: unknown) => (v === undefined || v === null ? [] : JSON.stringify(ordered(v), null, 2).split('\n'))

/** common is the longest run of lines that both have in this order (dynamic programming over the lines of two tools). */
function common(a: string[], b: string[]): [Set<number>, Set<number>] {
  const n = a.length
  const m = b.length
  const length = Array.from({ length: n + 1 }, () => new Uint16Array(m + 1))
  for (let i = n - 1; i >= 0; i--)
    for (let j = m - 1; j >= 0; j--) length[i][j] = a[i] === b[j] ? length[i + 1][j + 1] + 1 : Math.max(length[i + 1][j], length[i][j + 1])
  const inA = new Set<number>()
  const inB = new Set<number>()
  for (let i = 0, j = 0; i < n && j < m;) {
    if (a[i] === b[j]) {
      inA.add(i++)
      inB.add(j++)
    } else if (length[i + 1][j] >= length[i][j + 1]) i++
    else j++
  }
  return [inA, inB]
}

const most = 2000

/** compare says line by line what two JSON values have that the other one lacks. */
export function compare(before: unknown, after: unknown): { before: ComparedLine[]; after: ComparedLine[] } {
  const a = linesOf(before).slice(0, most)
  const b = linesOf(after).slice(0, most)
  const [inA, inB] = common(a, b)
  return {
    before: a.map((text, i) => ({ text, differs: !inA.has(i) })),
    after: b.map((text, i) => ({ text, differs: !inB.has(i) })),
  }
}
