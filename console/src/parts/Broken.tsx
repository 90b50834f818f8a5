import { Alert, Button } from 'antd'
import { Component, type ReactNode } from 'react'

/** A page that could not be loaded, or failed while it was drawn, says so; the rest of the console stays. */
export class Broken extends Component<{ children: ReactNode }, { error: unknown }> {
  state = { error: null as unknown }

  static getDerivedStateFromError(error: unknown) {
    return { error }
  }

  render() {
    if (this.state.error === null) return this.props.children
    const told =
      this.state.error instanceof Error ? this.state.error.message : String(this.state.error)
    return (
      <Alert
        type="error"
        role="alert"
        showIcon={false}
        title="✗ This page could not be shown. The service may have been changed, or is away."
        description={told}
        action={<Button onClick={() => globalThis.location.reload()}>Load it again</Button>}
      />
    )
  }
}
