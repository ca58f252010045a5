/**
 * Words that business systems use for the same thing: English first, then abbreviations, German, French, Spanish,
 * Italian
 * and Dutch, without marks and in small letters. A word of several parts is written with blanks. Each line is one
 * notion.
 */
const lines = `
first name, given name, forename, fname, firstname, vorname, prenom, nombre, nome, voornaam
last name, surname, family name, lname, lastname, nachname, familienname, nom, nom de famille, apellido, apellidos,
  cognome, achternaam
salutation, title of person, form of address, courtesy, anrede, civilite, tratamiento, aanhef
name, nm, designation, bezeichnung, naam
full name, contact person, contact name, cust nm, customer name, ansprechpartner, interlocuteur, persona de contacto,
  contactpersoon, referente
company, firm, organisation, organization, business, employer, account name, client, org, co, firma, unternehmen,
  gesellschaft, societe, entreprise, raison sociale, empresa, compania, razon social, societa, azienda, bedrijf
account, acct, konto, compte, cuenta
customer, cust, client, shopper, debtor, buyer, kunde, kd, debitor, cliente, klant
supplier, vendor, manufacturer, maker, lieferant, hersteller, fournisseur, fabricant, proveedor, fabricante, leverancier
email, e mail, mail, mail address, courriel, correo, correo electronico, posta elettronica
phone, telephone, tel, ph, phone number, telefon, telefono, telefoon
mobile, mobile phone, cell, cell phone, cellular, handy, mobil, mobiltelefon, portable, movil, celular, cellulare,
  mobiel
fax, telefax, telecopie
website, web, site, homepage, url, www, internetseite, webseite, site web, sitio web, pagina web, sito
street, street address, address line, line, str, strasse, anschrift, adresse, rue, direccion, calle, indirizzo, via,
  straat
address, addr, adr
city, town, place, cty, ort, stadt, ville, ciudad, localidad, citta, plaats, stad
postcode, postal code, post code, zip, zip code, pc, plz, postleitzahl, code postal, codigo postal, cp, cap
county, state of country, region, province, district, zone, bundesland, departement, zona, provincia, regione
country, ctry, land, nation, pays, pais, paese
language, lang, locale, sprache, langue, idioma, lingua, taal
currency, curr, ccy, currency code, waehrung, wahrung, devise, monnaie, moneda, divisa, valuta
vat number, vat id, vat no, vat, tax number, tax id, ust id nr, ust id, ustidnr, umsatzsteuer id, steuernummer,
  numero de tva, nif, cif, partita iva, btw nummer
registration number, company number, register, handelsregister, siret, siren
iban, bank account, bankverbindung
payment terms, payment term days, payment days, terms, zahlungsziel, zahlungsbedingung, conditions de paiement,
  condiciones de pago, betalingstermijn
payment method, pay mth, payment type, zahlart, zahlungsart, mode de paiement, forma de pago
payment, pay, paid, zahlung, bezahlt, paiement, pago, betaling
credit limit, limit, kreditlimit, limite de credit, limite de credito, kredietlimiet
discount, disc, rebate, rabatt, remise, descuento, sconto, korting
segment, customer group, group, class, classification, kundengruppe, gruppe, groupe, grupo, segmento, klantgroep
category, product group, kategorie, warengruppe, categorie, categoria
industry, sector, branch, line of business, branche, secteur, settore
source, origin, lead source, channel, quelle, herkunft, origine, origen, fuente, herkomst
status, state, stage, column, st, stat, phase, zustand, statut, etat, estado, stato
priority, urgency, prio, prioritaet, dringlichkeit, priorite, urgence, prioridad, urgencia
salesperson, sales representative, rep, account manager, owner, slsm, seller, vertreter, verkaeufer, vendeur,
  commercial, vendedor, venditore, verkoper
owner, owned by, assigned to, assignee, responsible, agent, handled by, zustaendig, bearbeiter, responsable,
  asignado, toegewezen
reporter, requester, raised by, reported by, melder, demandeur, solicitante
job title, position, role, job, function, funktion, stelle, fonction, poste, cargo, puesto, ruolo, functie
birthday, date of birth, birth date, born, geburtsdatum, geburtstag, date naissance, date de naissance,
  fecha de nacimiento, data di nascita, geboortedatum
date, dt, datum, fecha, data
created, created at, created on, crt, since, registered, opened, introduced, launched, added, anlagedatum, angelegt,
  erstellt, cree le, cree, date de creation, fecha alta, alta, creado, creato, aangemaakt
modified, modified at, updated, changed, last change, last edit, last modified, geaendert, aenderungsdatum,
  modifie le, maj, modificado, modificato, gewijzigd
due, due date, deadline, due at, faellig, echeance, vencimiento, scadenza
started, start, begin, beginn, debut, inicio
visit, last contact, last contacted, contacted, besuch, dernier contact, visita, bezoek
next, proxima, prochain, naechster
order, ord, sales order, auftrag, bestellung, commande, pedido, ordine, bestelling
order number, order no, order reference, external reference, ext ref, auftragsnummer, numero de commande
number, no, num, nr, nummer, numero, n
reference, ref, key, referenz, referencia
id, identifier, ident, kennung, identifiant, identificador
code, cd, codigo, codice
delivery, dlv, shipping, ship, lieferung, liefer, livraison, entrega, envio, consegna, levering
billing, invoice, inv, bill, rechnung, facture, facturation, factura, fattura, factuur
amount, amt, sum, value, betrag, summe, wert, montant, importe, valor, importo, bedrag
net, netto, ht, neto
gross, brutto, ttc, bruto
total, tot, gesamt, totale, totaal
revenue, turnover, annual revenue, sales volume, umsatz, chiffre d affaires, facturacion, fatturato, omzet
list price, sales price, selling price, verkaufspreis, listenpreis, prix de vente, precio de venta
cost price, purchase price, buying price, einkaufspreis, prix d achat, precio de compra
price, preis, prix, precio, prezzo, prijs
shipping cost, ship amt, freight, postage, versandkosten, frais de port, gastos de envio
tax, steuer, taxe, impuesto, tassa, belasting
quantity, qty, item count, count, pieces, menge, stueck, quantite, cantidad, aantal
stock level, stock, qty on hand, on hand, inventory, bestand, lagerbestand, existencias, voorraad
reorder point, min stock, minimum stock, meldebestand, stock minimum, punto de pedido
weight, wgt, gewicht, poids, peso
width, breite, largeur, ancho, breedte
height, hoehe, hauteur, alto, hoogte
depth, length of thing, tiefe, profondeur, fondo, diepte
colour, color, finish, farbe, couleur, kleur
article number, article no, sku, item number, product code, artikelnummer, reference article, codigo de articulo
article, item, product, artikel, produkt, produit, producto, articulo
barcode, ean, gtin, strichcode, code barre, codigo de barras
warranty, guarantee, garantie, gewaehrleistung, garantia
active, enabled, aktiv, actif, activo
discontinued, inactive, obsolete, auslauf
blocked, locked, on hold, gesperrt, bloque, bloqueado, bloccato, geblokkeerd
newsletter, opt in, consent, newsletter consent, subscribed, marketing, abonne, boletin, suscrito, nieuwsbrief
employees, staff, headcount, number of employees, size of company, mitarbeiter, beschaeftigte, effectif, empleados,
  dipendenti, medewerkers
note, notes, remark, remarks, rmk, comment, comments, memo, bemerkung, notiz, kommentar, remarque, commentaire,
  observaciones, nota, comentario, osservazioni, opmerking
description, details, body, long text, desc, beschreibung, langtext, descripcion, descrizione, omschrijving
subject, headline, title, summary, topic, article text, short text, betreff, titel, kurztext, objet, titre, asunto,
  titulo, oggetto, onderwerp
tags, labels, keywords, schlagworte, etiquettes, mots cles, etiquetas
hours, hrs, time spent, minutes spent, effort, stunden, aufwand, heures, horas, uren
expected value, deal value, opportunity value, erwarteter wert, importe previsto
vip, key account, important
score, rating, bewertung, note de client, puntuacion
user, usr, benutzer, utilisateur, usuario
secondary, alternative, alt, other, second
`;

/**
 * Notions by each of their words; a word may stand for several notions. Words of several parts are joined by blanks.
 * A line that is indented goes on with the one before it.
 */
export const notionsOf: ReadonlyMap<string, readonly number[]> = (() => {
  const notions = new Map<string, number[]>();
  for (const [index, line] of lines
    .trim()
    .replaceAll(/\n {2}/g, ' ')
    .split('\n')
    .entries()) {
    for (const word of line.split(',').map((one) => one.trim()))
      notions.set(word, [...(notions.get(word) ?? []), index]);
  }
  return notions;
})();

/** The most parts that a word of the table has. */
export const longestWord = Math.max(...[...notionsOf.keys()].map((word) => word.split(' ').length));
