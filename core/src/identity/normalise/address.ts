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
 * The words of a postal address, abbreviations written out; *Hauptstr.* and *Haupt Strasse* have the same. The word
 * *number* is left out.
 */
export function addressWords(address: string): string[] {
  const words = tokensOf(address.replace(/(\d)\s+([a-z])\b/gi, '$1$2')).flatMap((word) => {
    const [, name, kind] = joinedStreet.exec(word) ?? [];
    return name !== undefined && kind !== undefined ? [name, kind] : [word];
  });
  return words.map((word) => fullOf.get(word) ?? word).filter((word) => word !== 'number');
}
