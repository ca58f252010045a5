/**
 * 1,000 new records against many that are tied already, as a run finds them: by the index in the database, without
 * comparing
 * everything. Prints how long finding candidates, comparing and choosing take, beside reading as many records by their
 * keys from the same table (the floor). Settings: BENCH_KNOWN (records in the index, a million unless given),
 * BENCH_SEED.
 */
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { performance } from 'node:perf_hooks';
import { anchorId, evidenceTexts, prepareColumns, recordKey, storedBlocks } from '@anchor-knot/core';
import { clusterFolder, compareRecords, openDatabase, PostgresStore, startCluster } from '@anchor-knot/server';
import pg from 'pg';
import { v7 as uuid } from 'uuid';
import { people } from './matching/world.mjs';

const known = Number(process.env.BENCH_KNOWN ?? 1_000_000);
const newcomers = 1000;
const indexedAtOnce = 5000;
const evidence = [
  { name: 'Name', fields: ['given', 'family'], compare: 'person name' },
  { name: 'Born', fields: ['born'], compare: 'date' },
  { name: 'Address', fields: ['street', 'postcode'], compare: 'address' },
  { name: 'Phone', fields: ['phone'], compare: 'phone' },
];
let { left, right } = people({
  seed: Number(process.env.BENCH_SEED ?? 7),
  both: 600,
  onlyLeft: known - 600,
  onlyRight: 400,
});
const textsOf = (list) => list.map(({ record }) => evidenceTexts(evidence, record));

const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const place = clusterFolder(folder, `bench-${process.pid}`);
const cluster = await startCluster(place, { throwAway: true });
try {
  const client = new pg.Client({ connectionString: cluster.url('postgres') });
  await client.connect();
  await client.query('create database bench');
  await client.end();
  const data = await openDatabase(cluster.url('bench'));
  await data.query(`insert into knot (id, name, version_in_force) values ('people', 'People', 1)`);
  const store = new PostgresStore(data);
  const lease = await store.beginRun({
    run: uuid(),
    knot: 'people',
    knotVersion: 1,
    kind: 'run',
    startedBy: 'bench',
    now: Date.now(),
    leaseMs: 3_600_000,
  });

  let begun = performance.now();
  for (let from = 0; from < left.length; from += indexedAtOnce) {
    const texts = textsOf(left.slice(from, from + indexedAtOnce));
    const columns = prepareColumns(evidence, texts);
    const anchors = texts.map((own, at) => {
      const record = {
        member: 'left',
        key: recordKey(String(from + at)),
        texts: own,
        blocks: storedBlocks(columns, at).map(({ block }) => block),
      };
      return { anchor: anchorId(uuid()), index: { keys: [], evidence: [record] } };
    });
    await store.saveIndex(lease, anchors);
  }
  const took = (performance.now() - begun) / 1000;
  await data.query('analyze evidence_record');
  await data.query('analyze evidence_block');
  const [{ blocks, size }] = await data.query(
    `select count(*) as blocks, pg_total_relation_size('evidence_block') + pg_total_relation_size('evidence_record') as
      size from evidence_block`,
  );
  console.log(
    `${left.length} records indexed in ${took.toFixed(0)} s: ${blocks} blocks, ${Math.round(Number(size) / 1e6)} MB`,
  );

  // Weights are learned once, from a part; in a run they come with the definition.
  const part = [...textsOf(left.slice(0, 5000)), ...textsOf(right)];
  const { weights } = await compareRecords({
    evidence,
    texts: part,
    memberOf: part.map((_, at) => (at < 5000 ? 0 : 1)),
    members: 2,
    newcomers: part.length,
    withinMembers: false,
  });

  const fresh = textsOf(right).slice(0, newcomers);
  const [count, thingsKnown, thingsNew] = [
    left.length,
    left.map(({ thing }) => thing),
    right.map(({ thing }) => thing),
  ];
  // A worker does not hold what is indexed: collecting garbage around a million records would be measured too.
  left = right = [];
  for (const turn of ['first', 'second', 'third']) {
    begun = performance.now();
    const columns = prepareColumns(evidence, fresh);
    const { records, found } = await store.evidenceCandidates(
      'people',
      fresh.map((_, at) => storedBlocks(columns, at)),
    );
    const searched = performance.now();
    const texts = [...fresh, ...records.map((record) => record.texts)];
    const { likely, compared } = await compareRecords({
      evidence,
      texts,
      memberOf: texts.map((_, at) => (at < newcomers ? 1 : 0)),
      members: 2,
      newcomers,
      known: found.map((places) => places.map((at) => newcomers + at)),
      withinMembers: false,
      weights,
      least: -2,
    });
    const best = new Map();
    for (const pair of likely.pairs)
      if (pair.bits > (best.get(pair.left)?.bits ?? -Infinity)) best.set(pair.left, pair);
    const good = [...best.values()].filter(
      ({ left: at, right: other }) => thingsKnown[Number(records[other - newcomers].key)] === thingsNew[at],
    ).length;
    const all = performance.now();
    // The floor: the same records by their keys.
    const ids = await data.query('select id from evidence_record order by id limit $1', [records.length]);
    const read = performance.now();
    await data.query(
      'select id, anchor_id, member, record_key, texts from evidence_record where id = any($1::bigint[])',
      [ids.map(({ id }) => id)],
    );
    const floor = performance.now() - read;
    console.log(
      `${turn}: ${newcomers} new against ${count}: ${((all - begun) / 1000).toFixed(2)} s ` +
        `(${((searched - begun) / 1000).toFixed(2)} s to find ${records.length} candidates, ${compared} ` +
        `pairs compared); ${good} of 600 found as the best; reading the candidates by key ` +
        `${(floor / 1000).toFixed(2)} s`,
    );
  }
  await data.destroy();
} finally {
  cluster.stop();
  rmSync(place, { recursive: true, force: true });
  rmSync(folder, { recursive: true, force: true });
}
