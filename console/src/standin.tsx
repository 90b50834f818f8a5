/** A page on its own, over a stand-in for the service: for tests. */
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { render } from '@testing-library/react'
import { App as AntApp } from 'antd'
import type { ReactElement } from 'react'
import { MemoryRouter, Route, Routes } from 'react-router'
import { vi } from 'vitest'

/** Path below /api/v1/ → what the service answers; `null` stands for a service that is away. */
export type Answers = Record<string, unknown>

export const SESSION = {
  name: 'mara',
  rights: ['look', 'operate', 'define', 'administer'],
  administers_all: true,
  second_factor: 'off',
  csrf: 'x',
}

const json = (body: unknown, status = 200) =>
  new Response(JSON.stringify(body), {
    status,
    headers: { 'Content-Type': 'application/json' },
  })

const problem = (status: number, code: string) =>
  json({ status, code, detail: `It is ${code}.` }, status)

/** Requests are kept, so that a test sees what was asked. */
export function serve(answers: Answers) {
  const asked: { method: string; path: string; body: unknown }[] = []
  vi.stubGlobal('fetch', async (request: Request) => {
    const path = new URL(request.url).pathname.replace('/api/v1/', '')
    const body = request.method === 'GET' ? null : await request.clone().json()
    asked.push({ method: request.method, path, body })
    if (path in answers && answers[path] === null) throw new TypeError('away')
    const known = { session: SESSION, ...answers }[path]
    return known === undefined ? problem(404, 'not.served') : json(known)
  })
  return asked
}

export function show(page: ReactElement, { at = '/', route = '*' } = {}) {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } })
  return render(
    <QueryClientProvider client={queries}>
      <AntApp>
        <MemoryRouter initialEntries={[at]}>
          <Routes>
            <Route path={route} element={page} />
          </Routes>
        </MemoryRouter>
      </AntApp>
    </QueryClientProvider>,
  )
}
