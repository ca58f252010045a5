/** What is used of the package, which ships no types. */
declare module 'humanparser' {
  interface ParsedName {
    readonly salutation?: string;
    readonly firstName?: string;
    readonly middleName?: string;
    readonly lastName?: string;
    readonly suffix?: string;
  }
  const parser: { parseName(name: string): ParsedName };
  export default parser;
}
