import '@testing-library/jest-dom/vitest'
import { cleanup } from '@testing-library/react'
import { afterEach, vi } from 'vitest'

afterEach(cleanup)

// What a browser has and this stand-in of one lacks: a window of 1280 pixels, in light, that never changes.
vi.stubGlobal('matchMedia', (query: string) => ({
  matches: /min-width: (\d+)/.test(query) && Number(/min-width: (\d+)/.exec(query)?.[1]) <= 1280,
  media: query,
  addEventListener: () => undefined,
  removeEventListener: () => undefined,
  addListener: () => undefined,
  removeListener: () => undefined,
}))
vi.stubGlobal(
  'ResizeObserver',
  class {
    observe() {}
    unobserve() {}
    disconnect() {}
  },
)
