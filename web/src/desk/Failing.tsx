import { Component, type ReactNode } from "react";
import { Button } from "../ui/Button";

/** Keeps a failure inside the desk from leaving an empty page: says what happened and offers to open it again. */
export class Failing extends Component<{ children: ReactNode }, { error: Error | null }> {
  override state: { error: Error | null } = { error: null };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    return (
      <div className="signin">
        <p role="alert">
          The desk failed and cannot go on ({error.message}). Nothing that was made is lost: jobs go on and holdings are
          kept.
        </p>
        <Button kind="primary" onClick={() => window.location.reload()}>
          Open the desk again
        </Button>
      </div>
    );
  }
}
