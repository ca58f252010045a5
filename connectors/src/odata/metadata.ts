import { XMLParser } from 'fast-xml-parser';
import type { SourceField, SourceType } from '@anchor-knot/core';

export interface ODataProperty {
  readonly name: string;
  /** With its namespace, such as `Edm.String`. */
  readonly type: string;
  readonly nullable: boolean;
  /** The service gives the value itself. */
  readonly computed: boolean;
  readonly longest?: number | undefined;
  readonly choices?: readonly string[] | undefined;
  /** The entity type whose key it holds. */
  readonly reference?: string | undefined;
}

export interface EntitySet {
  readonly name: string;
  readonly key: readonly string[];
  readonly properties: readonly ODataProperty[];
  readonly insertable: boolean;
  readonly updatable: boolean;
}

type Element = Readonly<Record<string, unknown>>;

/**
 * The entity sets of a service, from its metadata document (OASIS, OData CSDL XML Representation 4.01). Complex and
 * collection properties are left as they are: fields of their own with the type `mixed` or `list`.
 * @throws {Error} when the text is no metadata document
 */
export function readMetadata(xml: string): ReadonlyMap<string, EntitySet> {
  const parser = new XMLParser({
    ignoreAttributes: false,
    attributeNamePrefix: '',
    removeNSPrefix: true,
    parseAttributeValue: false,
    parseTagValue: false,
  });
  const document = (parser.parse(xml) as { Edmx?: { DataServices?: Element } }).Edmx?.DataServices;
  if (!document) throw new Error('it has no edmx:DataServices');
  const schemas = elements(document, 'Schema');
  const aliases = new Map(
    schemas.flatMap(({ Alias, Namespace }) => (Alias ? [[text(Alias), text(Namespace)] as const] : [])),
  );
  /** A name with its namespace, where it was given with an alias of it. */
  const full = (name: string): string =>
    name.replace(/^([^./]+)\./, (whole, first: string) =>
      aliases.has(first) ? `${aliases.get(first) as string}.` : whole,
    );
  const named = (kind: string): ReadonlyMap<string, Element> =>
    new Map(
      schemas.flatMap((schema) =>
        elements(schema, kind).map((element) => [`${text(schema.Namespace)}.${text(element.Name)}`, element] as const),
      ),
    );
  const types = named('EntityType');
  const enums = named('EnumType');
  const annotations = new Map<string, Element[]>();
  for (const schema of schemas)
    for (const annotated of elements(schema, 'Annotations'))
      annotations.set(full(text(annotated.Target)), [
        ...(annotations.get(full(text(annotated.Target))) ?? []),
        ...elements(annotated, 'Annotation'),
      ]);
  const sets = schemas.flatMap((schema) =>
    elements(schema, 'EntityContainer').flatMap((container) =>
      elements(container, 'EntitySet').map((set) => ({
        set,
        target: `${text(schema.Namespace)}.${text(container.Name)}/${text(set.Name)}`,
      })),
    ),
  );
  return new Map(
    sets.flatMap(({ set, target }): [string, EntitySet][] => {
      const line = withBases(text(set.EntityType), types, full);
      if (line.length === 0) return [];
      const said = [...elements(set, 'Annotation'), ...(annotations.get(target) ?? [])];
      const references = new Map(
        line.flatMap(({ type }) =>
          elements(type, 'NavigationProperty').flatMap((navigation) =>
            elements(navigation, 'ReferentialConstraint').map(
              (constraint) =>
                [
                  text(constraint.Property),
                  text(navigation.Type)
                    .replace(/^Collection\((.*)\)$/, '$1')
                    .split('.')
                    .at(-1) ?? '',
                ] as const,
            ),
          ),
        ),
      );
      const properties = line.flatMap(({ name, type }) =>
        elements(type, 'Property').map((property): ODataProperty => {
          const of = [
            ...elements(property, 'Annotation'),
            ...(annotations.get(`${name}/${text(property.Name)}`) ?? []),
          ];
          const choices = enums.get(full(text(property.Type)));
          const reference = references.get(text(property.Name));
          return {
            name: text(property.Name),
            type: choices ? 'Edm.String' : text(property.Type),
            nullable: property.Nullable !== 'false',
            computed: of.some(({ Term, Bool }) => text(Term).endsWith('Core.V1.Computed') && Bool !== 'false'),
            ...(/^\d+$/.test(text(property.MaxLength)) ? { longest: Number(property.MaxLength) } : {}),
            ...(choices ? { choices: elements(choices, 'Member').map(({ Name }) => text(Name)) } : {}),
            ...(reference === undefined ? {} : { reference }),
          };
        }),
      );
      const name = text(set.Name);
      const key = line.flatMap(({ type }) =>
        elements(type, 'Key').flatMap((key) => elements(key, 'PropertyRef').map((ref) => text(ref.Name))),
      );
      return [
        [
          name,
          {
            name,
            key,
            properties,
            insertable: !restricts(said, 'InsertRestrictions', 'Insertable'),
            updatable: !restricts(said, 'UpdateRestrictions', 'Updatable'),
          },
        ],
      ];
    }),
  );
}

export function sourceField({
  name,
  type,
  nullable,
  computed,
  longest,
  choices,
  reference,
}: ODataProperty): SourceField {
  return {
    path: name,
    type: sourceType(type),
    ...(nullable || computed ? {} : { required: true }),
    ...(computed ? { readOnly: true } : {}),
    ...(choices ? { choices } : {}),
    ...(reference === undefined ? {} : { reference }),
    ...(longest === undefined ? {} : { longest }),
  };
}

function sourceType(type: string): SourceType {
  if (type.startsWith('Collection(')) return 'list';
  const name = type.replace(/^Edm\./, '');
  if (/^(Byte|SByte|Int16|Int32|Int64|Decimal|Double|Single)$/.test(name)) return 'number';
  if (name === 'Boolean') return 'yes/no';
  if (name === 'Date') return 'date';
  if (name === 'DateTimeOffset') return 'instant';
  return /^(String|Guid|Duration|TimeOfDay|Binary)$/.test(name) ? 'text' : 'mixed';
}

/** A type after the types that it is derived from; a circle is walked once. */
function withBases(
  name: string,
  types: ReadonlyMap<string, Element>,
  full: (name: string) => string,
): { name: string; type: Element }[] {
  const line: { name: string; type: Element }[] = [];
  for (let at: string = full(name); at !== '' && !line.some((one) => one.name === at);) {
    const type = types.get(at);
    if (!type) break;
    line.unshift({ name: at, type });
    at = full(text(type.BaseType));
  }
  return line;
}

/** OData Capabilities vocabulary (OASIS): what is not said to be forbidden is allowed. */
function restricts(annotations: readonly Element[], term: string, property: string): boolean {
  return annotations
    .filter(({ Term }) => text(Term).endsWith(`Capabilities.V1.${term}`))
    .flatMap((annotation) => elements(annotation, 'Record').flatMap((record) => elements(record, 'PropertyValue')))
    .some(({ Property, Bool }) => Property === property && Bool === 'false');
}

/** The parser gives one element as itself and several as an array. */
function elements(parent: Element, name: string): readonly Element[] {
  const found = parent[name];
  if (found === undefined || found === '') return [];
  return (Array.isArray(found) ? found : [found]).map((element: unknown) =>
    typeof element === 'object' && element !== null ? (element as Element) : {},
  );
}

function text(value: unknown): string {
  return typeof value === 'string' ? value : '';
}
