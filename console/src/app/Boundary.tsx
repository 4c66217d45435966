import { Component, type ReactNode } from "react";

type Props = {
  children: ReactNode;
  /** What is drawn: when it is another, it is tried once more. */
  of: unknown;
  /** What stands in the place of a part that could not be drawn; `again` tries it once more. */
  instead: (error: Error, again: () => void) => ReactNode;
};

/** Around a part of the page: a fault in it leaves everything else as it is. */
export class Boundary extends Component<Props, { error: Error | null }> {
  override state = { error: null as Error | null };

  static getDerivedStateFromError(error: unknown) {
    return { error: error instanceof Error ? error : new Error(String(error)) };
  }

  override componentDidUpdate(before: Props) {
    if (before.of !== this.props.of && this.state.error !== null) this.setState({ error: null });
  }

  override render() {
    const { error } = this.state;
    if (error === null) return this.props.children;
    return this.props.instead(error, () => this.setState({ error: null }));
  }
}
