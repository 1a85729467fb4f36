import { test, expect, describe } from 'vitest';
import { heat } from './heat';
describe('kiln', () => {
  test('heats', () => { expect(heat(2)).toBe(3); });
  test('throws', () => { heat(9); });
});
test('deep', () => {
  expect({ a: 1 }).toEqual({ a: 2 });
});
