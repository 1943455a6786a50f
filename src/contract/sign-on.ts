/** Why somebody who was at the provider did not come in, by code: said where people log in. What the provider said stands in the log. */
export const signOnWords: Readonly<Record<string, { message: string; hint: string }>> = {
  'sign-on.away': {
    message: 'The provider cannot be reached',
    hint: 'Log in with a password, or tell whoever runs Embrik: the log of the web process has more',
  },
  'sign-on.begun': { message: 'This log-in was not begun in this browser, or too long ago', hint: 'Begin anew' },
  'sign-on.refused': {
    message: 'The log-in there was not accepted',
    hint: 'Begin anew; if it stays so, tell whoever runs Embrik: the log of the web process has the reason',
  },
  'sign-on.role': {
    message: 'You are known there, and have no role here',
    hint: 'Ask for one: whoever runs Embrik knows which the provider must name',
  },
}
