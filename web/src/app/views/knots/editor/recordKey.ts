/**
 * In the place of a field: the key of the record itself. The engine's word for it; this client does not carry the
 * engine.
 */
export const recordKeyPath = '@key';

/** A member's field as a person knows it. */
export const fieldName = (path: string): string => (path === recordKeyPath ? 'own key' : path);
