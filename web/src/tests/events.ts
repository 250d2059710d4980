import { vi } from 'vitest';

type Listener = (event: { data: string }) => void;

/** The server's stream of events, told by a test. */
export class Events {
  static opened: Events[] = [];
  private readonly listeners = new Map<string, Listener>();
  closed = false;

  constructor(readonly url: string) {
    Events.opened.push(this);
  }

  addEventListener(name: string, listener: Listener) {
    this.listeners.set(name, listener);
  }

  close() {
    this.closed = true;
  }

  /** Tells an event, as the server writes it. */
  tell(name: string, data: object) {
    this.listeners.get(name)?.({ data: JSON.stringify(data) });
  }
}

vi.stubGlobal('EventSource', Events);
