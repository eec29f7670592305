import type { Finding, Problem, Stage } from './types'

/** ApiError is what the service told when it refused, or that it could not be reached. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly hint = '',
    readonly field = '',
    readonly code = '',
    readonly finding?: Finding,
    readonly stages: Stage[] = [],
  ) {
    super(message)
  }
}

let onSignedOut = () => {}

/** whenSignedOut sets what happens when the session has ended. */
export function whenSignedOut(fn: () => void) {
  onSignedOut = fn
}

let onNodes: (path: string, silent: string) => void = () => {}

/** whenNodesAreSilent sets what is told of nodes that did not answer, by the path that was asked for; '' for none. */
export function whenNodesAreSilent(fn: (path: string, silent: string) => void) {
  onNodes = fn
}

/** nodesSilent tells which nodes did not answer what came by a stream. */
export const nodesSilent = (path: string, silent: string[]) => onNodes(path, silent.join(', '))

/** request calls the API and returns the decoded answer. It throws an ApiError. */
export async function request<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  let res: Response
  try {
    res = await fetch(path, {
      method,
      signal,
      headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch (err) {
    if (signal?.aborted) throw err
    throw new ApiError(0, 'Bouncer cannot be reached', 'Check that the service is running; this page goes on by itself when it is back.')
  }
  onNodes(path.split('?')[0], res.headers.get('Bouncer-Nodes-Silent') ?? '')
  if (res.status === 204) return undefined as T
  const data: unknown = await res.json().catch(() => null)
  if (res.ok && data !== null) return data as T
  const problem = data as Partial<Problem> | null
  if (res.status === 401 && path !== '/api/session') onSignedOut()
  throw new ApiError(
    res.status,
    sentence(problem?.title ?? `the service answered with status ${res.status}`),
    sentence(problem?.hint ?? ''),
    problem?.field ?? '',
    problem?.code ?? '',
    problem?.finding,
    problem?.stages ?? [],
  )
}

function sentence(text: string): string {
  return text ? text[0].toUpperCase() + text.slice(1) : ''
}
