import { Component, type ErrorInfo, type ReactNode } from "react";
import { Button } from "./parts";

interface State {
  error?: Error;
  tries: number;
}

const again = [2, 5, 15, 30]; // seconds

// Boundary keeps a part that fails from taking the page with it. It tries again
// by itself, soon at first; a piece of the console that is not there any more,
// since the service was replaced by another version, is fetched anew.
export class Boundary extends Component<{ children: ReactNode; place: string }, State> {
  state: State = { tries: 0 };
  timer = 0;

  static getDerivedStateFromError(error: Error): Partial<State> {
    return { error };
  }

  componentDidCatch(error: Error, info: ErrorInfo) {
    console.error(error, info.componentStack);
    const wait = again[Math.min(this.state.tries, again.length - 1)];
    this.timer = window.setTimeout(this.retry, wait * 1000);
  }

  componentDidUpdate(before: { place: string }) {
    // Another page is another matter.
    if (before.place !== this.props.place && this.state.error) {
      window.clearTimeout(this.timer);
      this.setState({ error: undefined, tries: 0 });
    }
  }

  componentWillUnmount() {
    window.clearTimeout(this.timer);
  }

  retry = async () => {
    window.clearTimeout(this.timer);
    // A module that failed to load fails for ever; only the page itself helps. It is
    // fetched anew when somebody answers, or the browser would show its own error
    // and stay there.
    if (this.missing()) {
      const answers = await fetch("/api/v1/me", { method: "HEAD", cache: "no-store" }).then(
        (r) => r.status < 500,
        () => false,
      );
      if (answers) window.location.reload();
      else this.timer = window.setTimeout(this.retry, 2000);
      return;
    }
    this.setState((s) => ({ error: undefined, tries: s.tries + 1 }));
  };

  missing = () =>
    /dynamically imported module|module script|preload css/i.test(this.state.error?.message ?? "");

  render() {
    if (!this.state.error) return this.props.children;
    if (this.missing())
      return (
        <div role="alert" className="max-w-xl py-8">
          <h1 className="text-base font-semibold">A part of the console could not be fetched</h1>
          <p className="pt-1 text-muted">
            The service does not answer, or is another version since. The page comes by itself as soon as it
            answers.
          </p>
          <div className="pt-3">
            <Button primary onClick={this.retry}>
              Try again
            </Button>
          </div>
        </div>
      );
    return (
      <div role="alert" className="max-w-xl py-8">
        <h1 className="text-base font-semibold">This page has failed</h1>
        <p className="pt-1 text-muted">
          It is a mistake of the console; your data is not touched. It tries again by itself.
        </p>
        <p className="pt-2 font-mono text-[0.8125rem] break-words">{this.state.error.message}</p>
        <div className="pt-3">
          <Button primary onClick={this.retry}>
            Try again
          </Button>
        </div>
      </div>
    );
  }
}
