// The longest tests begin first: left to the end, one of them would go on alone while the other core waits.
const { default: Sequencer } = require('@jest/test-sequencer');

const SLOW = ['steps/faults.test', 'cut/cut.test', 'essence/corpus.test', 'steps/attacks.test'];
const rank = ({ path }) => {
  const at = SLOW.findIndex((name) => path.includes(name));
  return at < 0 ? SLOW.length : at;
};

module.exports = class SlowFirst extends Sequencer {
  sort(tests) {
    return [...super.sort(tests)].sort((a, b) => rank(a) - rank(b));
  }
};
