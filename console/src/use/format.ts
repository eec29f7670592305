/** Text for times, durations and sizes. */
const clock = new Intl.DateTimeFormat(undefined, { hour: '2-digit', minute: '2-digit', second: '2-digit', hour12: false })
const day = new Intl.DateTimeFormat(undefined, { day: '2-digit', month: 'short' })
const full = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'medium', hour12: false })

export function moment(at: string): string {
  const d = new Date(at)
  const today = new Date().toDateString() === d.toDateString()
  return today ? clock.format(d) : `${day.format(d)} ${clock.format(d)}`
}

export const fullMoment = (at: string) => full.format(new Date(at))
export const dateOnly = (at: string) => new Intl.DateTimeFormat(undefined, { dateStyle: 'medium' }).format(new Date(at))

export function ago(at: string | undefined): string {
  if (!at) return 'never'
  const s = Math.max(0, (Date.now() - new Date(at).getTime()) / 1000)
  if (s < 60) return 'just now'
  if (s < 3600) return `${Math.floor(s / 60)} min ago`
  if (s < 86400) return `${Math.floor(s / 3600)} h ago`
  return `${Math.floor(s / 86400)} d ago`
}

export function took(us: number): string {
  if (us < 1000) return `${us} µs`
  if (us < 10_000_000) return `${(us / 1000).toFixed(1)} ms`
  return `${(us / 1e6).toFixed(1)} s`
}

/** millis is a length of time that is given in milliseconds. */
export function millis(ms: number): string {
  if (ms >= 10_000) return `${(ms / 1000).toFixed(1)} s`
  return ms >= 10 || ms === 0 ? `${Math.round(ms)} ms` : `${ms.toFixed(1)} ms`
}

export function bytes(n: number): string {
  if (n < 1024) return `${n} B`
  if (n < 10_240) return `${(n / 1024).toFixed(1)} KiB`
  if (n < 10_485_760) return `${Math.round(n / 1024)} KiB`
  return `${Math.round(n / 1_048_576)} MiB`
}

/** place is where a server is: its address, or the command that starts it. */
export function place(s: { url: string; command?: string; args?: string[] }): string {
  return s.command ? [s.command, ...(s.args ?? [])].join(' ') : s.url
}

/** pretty indents JSON and leaves anything else as it is. */
export function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2)
  } catch {
    return text
  }
}

/** span is a length of time in seconds, as the command line writes it. */
export function span(seconds: number): string {
  const s = Math.round(seconds)
  return s < 60 ? `${s}s` : `${Math.floor(s / 60)}m${s % 60 ? `${s % 60}s` : ''}`
}

/** life reads a length of time like 12h, 90d or 2w; undefined for what is none. */
export function life(text: string): { days: number; hours: number } | undefined {
  const m = /^\s*(\d{1,5})\s*(h|d|w)\s*$/.exec(text)
  if (!m || Number(m[1]) === 0) return undefined
  const hours = Number(m[1]) * { h: 1, d: 24, w: 168 }[m[2] as 'h' | 'd' | 'w']
  return { days: Math.floor(hours / 24), hours: hours % 24 }
}

/** middle shortens a long text in its middle, where it says least: the beginning and the end of a command tell it apart. */
export function middle(text: string, most: number): string {
  if (text.length <= most) return text
  const head = Math.ceil((most - 1) / 2)
  return `${text.slice(0, head)}…${text.slice(text.length - (most - 1 - head))}`
}
