import chardet from 'chardet';
import iconv from 'iconv-lite';
import { fileProblem } from './rowFile.js';

export interface Decoded {
  readonly text: string;
  readonly byteOrderMark: boolean;
}

/** @throws {SystemTrouble} when the bytes are not in that encoding */
export function decode(path: string, bytes: Buffer, encoding: string): Decoded {
  if (!iconv.encodingExists(encoding))
    throw fileProblem(
      path,
      `there is no encoding “${encoding}”`,
      'Choose one of the usual encodings, such as utf-8 or windows-1252.',
    );
  let text: string;
  if (isUtf8(encoding)) {
    try {
      text = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(bytes);
    } catch (cause) {
      throw fileProblem(
        path,
        `it is not UTF-8; it looks like ${recogniseEncoding(bytes)}`,
        'Correct the encoding in the description, or save the file as UTF-8.',
        cause,
      );
    }
  } else text = iconv.decode(bytes, encoding, { stripBOM: false });
  const byteOrderMark = text.startsWith('\uFEFF');
  return { text: byteOrderMark ? text.slice(1) : text, byteOrderMark };
}

export function encode(text: string, encoding: string, byteOrderMark: boolean): Buffer {
  return iconv.encode((byteOrderMark ? '\uFEFF' : '') + text, encoding, { addBOM: false });
}

/** Whether a text can be written in an encoding and read again as it was. */
export function canHold(encoding: string, text: string): boolean {
  return (
    isUtf8(encoding) ||
    iconv.decode(iconv.encode(text, encoding, { addBOM: false }), encoding, { stripBOM: false }) === text
  );
}

/**
 * The encoding of a file: by its byte order mark, as UTF-8 where it is valid as such, otherwise by the frequency of its
 * letters.
 */
export function recogniseEncoding(bytes: Buffer): string {
  if (bytes[0] === 0xff && bytes[1] === 0xfe) return 'utf-16le';
  if (bytes[0] === 0xfe && bytes[1] === 0xff) return 'utf-16be';
  try {
    new TextDecoder('utf-8', { fatal: true }).decode(bytes);
    return 'utf-8';
  } catch {
    const guess = chardet.detect(bytes)?.toLowerCase() ?? 'windows-1252';
    // Where both fit, the file was written by a program on Windows: its quotes and its euro are where the other has
    // control characters.
    const likely = guess === 'iso-8859-1' ? 'windows-1252' : guess;
    return iconv.encodingExists(likely) ? likely : 'windows-1252';
  }
}

function isUtf8(encoding: string): boolean {
  return /^utf-?8$/i.test(encoding);
}
