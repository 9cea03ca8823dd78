// A part of the screen that may fail by itself: what went wrong stands in its place, and everything else goes on.
import { Component, type ReactNode } from "react";

type Props = { name: string; children: ReactNode };

export class Pane extends Component<Props, { fault: Error | null }> {
  state = { fault: null as Error | null };

  static getDerivedStateFromError(fault: Error) {
    return { fault };
  }

  render() {
    const { fault } = this.state;
    if (!fault) return this.props.children;
    return (
      <div role="alert" className="grid size-full min-h-24 place-items-center p-4 text-center">
        <div>
          <p className="text-error">✗ {this.props.name} cannot be shown.</p>
          <p className="text-xs opacity-80">{fault.message.slice(0, 200)}</p>
          <button type="button" className="btn btn-sm mt-2" onClick={() => this.setState({ fault: null })}>
            Try again
          </button>
        </div>
      </div>
    );
  }
}
