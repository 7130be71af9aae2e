// A trouble of set-up that a person can mend: its message says what happened and what to do, and no stack is shown.
export class SetupError extends Error {
  override readonly name = 'SetupError';
}
