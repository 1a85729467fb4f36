import test, { describe, it } from 'node:test';
import assert from 'node:assert';
import { heat } from './kiln.mjs';
test('heats', () => { assert.strictEqual(heat(2), 3); });
test('throws', () => { heat(9); });
describe('glaze', () => { it('coats', () => { assert.deepEqual({a:1}, {a:2}); }); it('passes', () => {}); it.todo('later'); it('skips', {skip:true}, () => {}); });
test('async', async () => { await Promise.reject(new Error('late')); });
test('timeout', { timeout: 10 }, async () => { await new Promise(r => setTimeout(r, 100)); });
test('plain', () => { throw 'a string'; });
