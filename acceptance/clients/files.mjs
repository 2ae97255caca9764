// A view in one line, as a notebook would read it.
import assert from 'node:assert/strict';
import { tableFromIPC } from 'apache-arrow';

const gates = await tableFromIPC(fetch(process.env.DRIP_URL + '/api/v1/views/gate.arrow'));
assert.equal(gates.numRows, 20);
assert.deepEqual(gates.schema.fields.map((f) => f.name), ['gate', 'hall', 'capacity_per_minute']);
assert.equal([...gates].find((g) => g.gate === 'G02').capacity_per_minute, 42);
console.log('done');
