/** Something whose changes can be listened to; `version` tells React that it changed. */
export class Observable {
  version = 0;
  private readonly listeners = new Set<() => void>();

  subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  readonly getVersion = (): number => this.version;

  protected changed(): void {
    this.version += 1;
    for (const listener of [...this.listeners]) listener();
  }
}
