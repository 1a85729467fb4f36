const assert = require('assert');
const { heat } = require('./heat');
describe('kiln', () => {
  it('heats', () => { assert.strictEqual(heat(2), 3); });
  it('throws', () => { heat(9); });
});
it('async', async () => { await Promise.reject(new Error('late')); });
