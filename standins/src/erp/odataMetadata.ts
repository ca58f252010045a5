import { type Column, propertyName, sets } from './odataSets.js';

const namespace = 'Coldharbour';
const edmTypes: Readonly<Record<string, string>> = {
  int4: 'Edm.Int32',
  int8: 'Edm.Int64',
  numeric: 'Edm.Decimal',
  bool: 'Edm.Boolean',
  date: 'Edm.Date',
  timestamptz: 'Edm.DateTimeOffset',
  document_kind: `${namespace}.DocumentKind`,
};

/**
 * The schema of all sets as CSDL (OASIS, OData Version 4.01, CSDL XML).
 * @param columnsOf the columns of a table
 */
export async function metadata(columnsOf: (table: string) => Promise<readonly Column[]>): Promise<string> {
  const types = await Promise.all(
    Object.values(sets).map(async ({ type, table, key }) => {
      const columns = await columnsOf(table);
      const properties = columns.map(({ column, property, type: name, required, generated, longest }) => {
        const facets = [
          `Type="${edmTypes[name] ?? 'Edm.String'}"`,
          ...(required || column === key ? ['Nullable="false"'] : []),
          ...(longest ? [`MaxLength="${longest}"`] : []),
          ...(name === 'numeric' ? ['Scale="variable"'] : []),
        ];
        const computed = generated ? '<Annotation Term="Org.OData.Core.V1.Computed" Bool="true"/>' : '';
        return `<Property Name="${property}" ${facets.join(' ')}>${computed}</Property>`;
      });
      const navigations = columns.flatMap(({ property, refers }) => {
        const other = Object.values(sets).find((one) => one.table === refers);
        return other
          ? [
              `<NavigationProperty Name="${other.type}" Type="${namespace}.${other.type}"><ReferentialConstraint
                Property="${property}" ReferencedProperty="${propertyName(other.key)}"/></NavigationProperty>`,
            ]
          : [];
      });
      return `<EntityType Name="${type}"><Key><PropertyRef
        Name="${propertyName(key)}"/></Key>${properties.join('')}${navigations.join('')}</EntityType>`;
    }),
  );
  const restriction = (kind: 'Insert' | 'Update', allowed: boolean): string =>
    allowed
      ? ''
      : `<Annotation Term="Org.OData.Capabilities.V1.${kind}Restrictions"><Record><PropertyValue
        Property="${kind === 'Insert' ? 'Insertable' : 'Updatable'}" Bool="false"/></Record></Annotation>`;
  const container = Object.entries(sets).map(([name, { type, insert, update }]) => {
    const restrictions = `${restriction('Insert', insert)}${restriction('Update', update)}`;
    return `<EntitySet Name="${name}" EntityType="${namespace}.${type}">${restrictions}</EntitySet>`;
  });
  return `<?xml version="1.0" encoding="UTF-8"?><edmx:Edmx Version="4.0"
    xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="${namespace}"
      xmlns="http://docs.oasis-open.org/odata/ns/edm"><EnumType Name="DocumentKind"><Member Name="quote"/><Member
        Name="order"/><Member Name="invoice"/></EnumType>${types.join('')}<EntityContainer
          Name="Container">${container.join('')}</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`;
}
