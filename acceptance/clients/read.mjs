// Reads, prepares, fetches, follows and cancels, by the Node driver.
import assert from 'node:assert/strict';
import pg from 'pg';
import Cursor from 'pg-cursor';

const client = new pg.Client();
await client.connect();
const byKey = { name: 'by-key', text: 'SELECT hall, capacity_per_minute FROM gate WHERE gate = $1' };
for (let i = 0; i < 3; i++) {
  assert.deepEqual((await client.query({ ...byKey, values: ['G02'] })).rows, [
    { hall: 'North', capacity_per_minute: 42 },
  ]);
}
assert.deepEqual(
  (await client.query('SELECT gate FROM gate WHERE capacity_per_minute > $1 AND gate = ANY ($2)', [42, ['G01', 'G03']])).rows,
  [{ gate: 'G03' }],
);
assert.equal((await client.query('SELECT 1 AS a; SELECT 2 AS a')).length, 2);
await assert.rejects(client.query('SELECT gatee FROM gate'), { code: '42703', position: '8' });

const cursor = client.query(new Cursor('SELECT gate FROM gate WHERE gate > $1 ORDER BY gate', ['G05']));
assert.equal((await cursor.read(4)).length, 4);
assert.equal((await cursor.read(100)).length, 11);
await cursor.close();

await client.query('BEGIN');
await client.query("DECLARE changes CURSOR FOR FOLLOW SELECT gate FROM gate WHERE gate = 'G01'");
assert.equal((await client.query('FETCH 5 FROM changes')).rows[0].gate, 'G01');
const waiting = client.query('FETCH 5 FROM changes');
const other = new pg.Client();
setTimeout(() => other.cancel(client, client.activeQuery), 300);
await assert.rejects(waiting, { code: '57014' });
await client.query('ROLLBACK');
await client.end();
console.log('done');
