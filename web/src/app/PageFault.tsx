import { Component, type ReactNode } from 'react';
import { Failure } from '../shared/Failure';

/** Says that a page could not be drawn, and leaves the frame around it: one page that fails takes no other with it. */
export class PageFault extends Component<{ page: string; children: ReactNode }, { error: Error | null; page: string }> {
  override state = { error: null, page: this.props.page };

  static getDerivedStateFromError = (error: Error) => ({ error });

  /** Another page is tried anew. */
  static getDerivedStateFromProps(props: { page: string }, state: { page: string }) {
    return props.page === state.page ? null : { error: null, page: props.page };
  }

  override render() {
    return this.state.error === null ? (
      this.props.children
    ) : (
      <Failure error={this.state.error} again={() => this.setState({ error: null })} />
    );
  }
}
