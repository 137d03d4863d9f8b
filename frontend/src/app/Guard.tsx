import { Component, type ReactNode } from "react";
import { Failed } from "../ui/States";

/** Catches what a component throws, so that one broken picture does not take the page. */
export class Guard extends Component<{ children: ReactNode }, { error: Error | null }> {
  override state: { error: Error | null } = { error: null };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  override render() {
    if (this.state.error) {
      return <Failed error={this.state.error} retry={() => this.setState({ error: null })} />;
    }
    return this.props.children;
  }
}
