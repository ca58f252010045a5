import { SystemTrouble } from './connector.js';

/** An object of a system by its name. @throws {SystemTrouble} naming those that there are */
export function describedObject<T>(
  { name, objects }: { readonly name: string; readonly objects: Readonly<Record<string, T>> },
  objectName: string,
): T {
  const object = Object.hasOwn(objects, objectName) ? objects[objectName] : undefined;
  if (object === undefined)
    throw new SystemTrouble(
      'object is gone',
      `${name} has no object “${objectName}”`,
      `Choose one of ${Object.keys(objects).join(', ')}.`,
    );
  return object;
}
