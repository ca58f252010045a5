/**
 * What OData services declare, in the forms that the standard allows; and the ERP’s face, asked by a client that we
 * did not write.
 */
import { createServer } from 'node:http';
import { readMetadata, sourceField } from './metadata.js';
import { ODataConnector, listEntitySets } from './odataConnector.js';
import { odataSystemSchema } from '@anchor-knot/contracts';
import { recordKey } from '@anchor-knot/core';
import { AddressFilter } from '../addressFilter.js';

const edmx = (schema: string): string =>
  `<edmx:Edmx Version="4.0" xmlns:edmx="e"><edmx:DataServices>${schema}</edmx:DataServices></edmx:Edmx>`;

test('base types, aliases, enumerations, restrictions and annotations elsewhere are understood', () => {
  const sets = readMetadata(
    edmx(`
    <Schema Namespace="Long.Name" Alias="Self" xmlns="s">
      <EnumType Name="Colour"><Member Name="Red"/><Member Name="Green" Value="1"/></EnumType>
      <ComplexType Name="Place"><Property Name="Town" Type="Edm.String"/></ComplexType>
      <EntityType Name="Thing" Abstract="true"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Guid"
        Nullable="false"/></EntityType>
      <EntityType Name="Box" BaseType="Self.Thing">
        <Property Name="Colour" Type="Self.Colour"/><Property Name="Label" Type="Edm.String" MaxLength="20"
          Nullable="false"/><Property Name="At" Type="Long.Name.Place"/>
        <Property Name="Tags" Type="Collection(Edm.String)"/><Property Name="ShelfNo" Type="Edm.Int32"/><Property
          Name="Changed" Type="Edm.DateTimeOffset" Nullable="false"/>
        <NavigationProperty Name="Shelf" Type="Self.Shelf"><ReferentialConstraint Property="ShelfNo"
          ReferencedProperty="No"/></NavigationProperty>
      </EntityType>
      <EntityType Name="Pair"><Key><PropertyRef Name="A"/><PropertyRef Name="B"/></Key><Property Name="A"
        Type="Edm.Int32"/><Property Name="B" Type="Edm.Int32"/></EntityType>
      <EntityType Name="Loop" BaseType="Self.Loop"><Property Name="X" Type="Edm.String"/></EntityType>
      <Annotations Target="Long.Name.Box/Changed"><Annotation Term="Org.OData.Core.V1.Computed"/></Annotations>
      <Annotations Target="Long.Name.Main/Boxes"><Annotation
        Term="Org.OData.Capabilities.V1.UpdateRestrictions"><Record><PropertyValue Property="Updatable"
          Bool="false"/></Record></Annotation></Annotations>
    </Schema>
    <Schema Namespace="Long.Name" xmlns="s"><EntityContainer Name="Main"><EntitySet Name="Boxes"
      EntityType="Self.Box"/><EntitySet Name="Pairs" EntityType="Self.Pair"/><EntitySet Name="Loops"
        EntityType="Self.Loop"/></EntityContainer></Schema>`),
  );
  const boxes = sets.get('Boxes');
  expect(boxes).toMatchObject({ key: ['Id'], insertable: true, updatable: false });
  expect(boxes?.properties.map(sourceField)).toEqual([
    { path: 'Id', type: 'text', required: true },
    { path: 'Colour', type: 'text', choices: ['Red', 'Green'] },
    { path: 'Label', type: 'text', required: true, longest: 20 },
    { path: 'At', type: 'mixed' },
    { path: 'Tags', type: 'list' },
    { path: 'ShelfNo', type: 'number', reference: 'Shelf' },
    { path: 'Changed', type: 'instant', readOnly: true },
  ]);
  expect(sets.get('Pairs')?.key).toEqual(['A', 'B']);
  expect(sets.get('Loops')?.properties).toHaveLength(1);
  expect(() => readMetadata('<html>Sign in</html>')).toThrow(/no edmx:DataServices/);
});

describe('a service that does wrong', () => {
  const answers: Record<string, [number, string, string]> = {};
  const server = createServer((request, response) => {
    const [status, type, body] = answers[(request.url ?? '').split('?')[0] as string] ?? [
      404,
      'text/plain',
      'nothing here',
    ];
    response.writeHead(status, { 'content-type': type }).end(body);
  });
  let connector: ODataConnector;
  const dependencies = {
    clock: { now: () => Date.now(), sleep: async () => undefined },
    random: () => 0,
    addresses: new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] }),
  };
  const describe_ = (address: string) =>
    odataSystemSchema.parse({
      kind: 'odata',
      name: 'Odd',
      address,
      signIn: { kind: 'none' },
      batchSize: 10,
      objects: { boxes: { entitySet: 'Boxes', key: 'Id', mayUpdate: true } },
    });
  let system: ReturnType<typeof describe_>;
  beforeAll(async () => {
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
    system = describe_(`http://127.0.0.1:${(server.address() as { port: number }).port}/root/v4/`);
    connector = new ODataConnector(system, 'boxes', dependencies);
  });
  afterAll(async () => {
    await connector.close();
    server.close();
  });
  const read = async (): Promise<string> => {
    try {
      for await (const page of connector.read({})) void page;
      return 'read';
    } catch (error) {
      return (error as Error).message;
    }
  };

  test.each<[string, [number, string, string], RegExp]>([
    ['has no such set', [404, 'text/plain', 'no'], /no entity set “Boxes”/],
    ['sends a sign-in page', [200, 'text/html', '<html><title>Sign in</title>'], /not JSON/],
    ['sends no list', [200, 'application/json', '{"d":{"results":[]}}'], /without a list of entities/],
    [
      'leads in a circle',
      [200, 'application/json', '{"value":[{"Id":1}],"@odata.nextLink":"Boxes?$orderby=Id"}'],
      /leads in a circle/,
    ],
    [
      'leads to another host',
      [200, 'application/json', '{"value":[],"@odata.nextLink":"http://127.0.0.2/x"}'],
      /points to another host/,
    ],
  ])('%s', async (_, answer, says) => {
    answers['/root/v4/Boxes'] = answer;
    expect(await read()).toMatch(says);
  });

  test('metadata that is none is said to be none', async () => {
    answers['/root/v4/$metadata'] = [200, 'text/html', '<html></html>'];
    await expect(listEntitySets(system, dependencies)).rejects.toThrow(/gave no metadata/);
  });

  test('parts of a batch that are missing, too late or broken are told apart', async () => {
    answers['/root/v4/$metadata'] = [
      200,
      'application/xml',
      edmx(
        '<Schema Namespace="N" xmlns="s"><EntityType Name="Box"><Key><PropertyRef Name="Id"/></Key><Property ' +
          'Name="Id" Type="Edm.Int32"/></EntityType><EntityContainer Name="C"><EntitySet Name="Boxes" ' +
          'EntityType="N.Box"/></EntityContainer></Schema>',
      ),
    ];
    answers['/root/v4/$batch'] = [
      200,
      'application/json',
      JSON.stringify({
        responses: [
          { id: '1', status: 429, body: { error: { message: 'slower' } } },
          { id: '2', status: 500 },
          { id: '3', status: 400, body: { error: { code: 'x', message: 'Label is too long' } } },
          { id: '4', status: 204 },
        ],
      }),
    ];
    const write = (key: string) => ({
      kind: 'update' as const,
      key: recordKey(key),
      version: 'W/"1"',
      fields: new Map([['Label', 'x']]),
    });
    expect(await connector.write(['1', '2', '3', '4', '5', 'no number'].map(write))).toMatchObject([
      { kind: 'unknown', words: expect.stringContaining('without this request') as unknown as string },
      { kind: 'not done', words: 'slower' },
      { kind: 'unknown' },
      { kind: 'refused', words: 'Label is too long' },
      { kind: 'written', key: '5' },
      { kind: 'gone' },
    ]);
  });
});
