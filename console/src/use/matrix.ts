import type { ReachMatrix } from '../api'

/** One line of the matrix as it is drawn: a server with its counts, or one of its tools. */
export interface Line {
  server: string
  /** Index of the server in the matrix. */
  s: number
  /** Index of the tool within its server; -1 for the server's own line. */
  t: number
  tool: string
  title: string
  destructive: boolean
}

export interface Column {
  name: string
  owner: string
  labels: string[]
  /** Index of the agent in the matrix. */
  a: number
}

const has = (words: string[], wanted: string[]) => {
  const text = words.join(' ').toLowerCase()
  return wanted.every((w) => text.includes(w))
}

/**
 * arrange picks what is drawn of a matrix. A word that an agent or its labels hold picks columns, any other word picks
 * tools; folded servers show their own line alone.
 */
export function arrange(m: ReachMatrix, filter: string, folded: Set<string>, destructive: boolean): { lines: Line[]; columns: Column[] } {
  const words = filter.toLowerCase().split(/\s+/).filter(Boolean)
  const all = m.agents.map((a, i) => ({ name: a.name, owner: a.owner, labels: a.labels ?? [], a: i }))
  const ofAgents = words.filter((w) => all.some((c) => has([c.name, c.owner, ...c.labels], [w])))
  const ofTools = words.filter((w) => !ofAgents.includes(w))
  const columns = all.filter((c) => has([c.name, c.owner, ...c.labels], ofAgents))
  const lines: Line[] = []
  m.servers.forEach((server, s) => {
    const tools = server.tools
      .map((t, i) => ({
        server: server.server,
        s,
        t: i,
        tool: t.name,
        title: t.title ?? '',
        destructive: t.destructive ?? false,
      }))
      .filter((l) => (!destructive || l.destructive) && has([l.server, ...(server.labels ?? []), l.tool, l.title], ofTools))
    if (!tools.length) return
    lines.push({ server: server.server, s, t: -1, tool: '', title: '', destructive: false })
    if (!folded.has(server.server)) lines.push(...tools)
  })
  return { lines, columns }
}

/** usable are the letters of cells whose calls are carried, at once or when somebody admits them. */
const usable = 'anh'

/** count tells how many of a server's tools an agent can use. */
export function count(m: ReachMatrix, column: Column, s: number): string {
  const cells = m.agents[column.a].cells[s]
  let n = 0
  for (const c of cells) if (usable.includes(c)) n++
  return n === 0 ? '' : n === cells.length ? 'all' : String(n)
}

/** visible is which part of a list can be seen, with a little more on both sides. */
export function visible(scroll: number, size: number, step: number, length: number): { from: number; to: number } {
  const from = Math.max(0, Math.floor(scroll / step) - 4)
  return { from, to: Math.min(length, Math.ceil((scroll + size) / step) + 4) }
}
