// Passes on what Cargo's test runner prints, and says at the end which tests took longest.
//
// The runner prints a line when a test ends, not when it begins. It begins tests in the order of their names, as many
// at a time as it has threads, the next as one ends: from that and the moments of the lines follow the durations.
import { createInterface } from 'node:readline';
import { availableParallelism } from 'node:os';

const threads = Number(process.env.RUST_TEST_THREADS) || availableParallelism();
const done = [];
const binaries = [];
let binary = null;

/** Durations of a binary's tests, from when each ended, in the order in which they did. */
function durations({ begun, ended }) {
  const order = ended.map(({ name }) => name).sort((a, b) => (a < b ? -1 : a > b ? 1 : 0));
  const starts = new Map(order.slice(0, threads).map((name) => [name, begun]));
  let next = threads;
  for (const { name, at } of ended) {
    done.push({ name, seconds: (at - (starts.get(name) ?? begun)) / 1000 });
    if (next < order.length) starts.set(order[next++], at);
  }
}

function close() {
  if (!binary) return;
  durations(binary);
  const last = binary.ended.at(-1);
  if (last) binaries.push({ name: binary.name, seconds: Math.max(0, last.at - binary.begun) / 1000 });
  binary = null;
}

for await (const line of createInterface({ input: process.stdin, crlfDelay: Infinity })) {
  console.log(line);
  const running = line.match(/^ +Running .* \(.*\/([^/]+)-[0-9a-f]+\)$/);
  if (running) {
    close();
    binary = { name: running[1], begun: Date.now(), ended: [] };
  } else if (/^running \d+ tests?$/.test(line) && binary) {
    binary.begun = Date.now();
  }
  const test = line.match(/^test (\S+) .*\.\.\. (ok|FAILED)$/);
  if (test && binary) binary.ended.push({ name: test[1], at: Date.now() });
}
close();
const seconds = (n) => `${n.toFixed(1).padStart(7)} s`;
const slowest = (all, most) => all.toSorted((a, b) => b.seconds - a.seconds).slice(0, most);
console.log('\nTime by binary');
for (const { name, seconds: s } of slowest(binaries, 20)) console.log(`${seconds(s)}  ${name}`);
console.log('The ten slowest tests');
for (const { name, seconds: s } of slowest(done, 10)) console.log(`${seconds(s)}  ${name}`);
