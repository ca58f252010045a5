import { tokensOf } from './fold.js';
import { wordForms } from './wordForms.js';

/** Abbreviations of street words in several languages, each line one word: the full form first. */
const lines = `
street st str strasse strase straat
road rd
lane ln
avenue ave av avda avenida
drive dr drv
close cl
court ct crt
place pl
square sq
terrace ter terr
gardens gdns gdn
crescent cres
highway hwy
boulevard blvd bd bld bvd
parkway pkwy
mount mt
saint ste
north n
south s
east e
west w
apartment apt
building bldg
floor fl
suite
unit
platz plz
weg wg
allee al
rue r
chemin ch che
impasse imp
faubourg fbg fg
calle c cl
plaza pza
paseo pso
via v
viale vle
piazza pzza pza
corso cso
laan ln
plein pln
number no nr num numero
`;

const fullOf = wordForms(lines);
const joinedStreet = /^(\p{L}{3,})(strasse|str|straat|weg|platz|gasse|allee|laan|plein)$/u;

/**
 * Postcodes that people write as one word or as two: of the United Kingdom, the Netherlands and Canada (Universal
 * Postal Union, Postal addressing systems). Each is compared as two.
 */
const joinedPostcodes = [
  /\b([a-z]{1,2}\d[a-z\d]?)(\d[a-z]{2})\b/gi,
  /\b(\d{4})([a-z]{2})\b/gi,
  /\b([a-z]\d[a-z])(\d[a-z]\d)\b/gi,
];

/**
 * The words of a postal address, abbreviations written out; *Hauptstr.* and *Haupt Strasse* have the same. The word
 * *number* is left out, and a postcode is as many words however it is written.
 */
export function addressWords(address: string): string[] {
  const parted = joinedPostcodes.reduce((text, postcode) => text.replace(postcode, '$1 $2'), address);
  const words = tokensOf(parted.replace(/(\d)\s+([a-z])\b/gi, '$1$2')).flatMap((word) => {
    const [, name, kind] = joinedStreet.exec(word) ?? [];
    return name !== undefined && kind !== undefined ? [name, kind] : [word];
  });
  return words.map((word) => fullOf.get(word) ?? word).filter((word) => word !== 'number');
}
