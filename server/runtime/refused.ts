// What was asked cannot be done, and a person can mend it: the message is a sentence that says what, what was left
// untouched and what to do. Shown as it is by the interface and the command.
export class Refused extends Error {
  override readonly name = 'Refused';
}
