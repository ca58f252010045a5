/** Something that a person should know of a definition before it goes live. */
export interface Finding {
  /** `stops`: it cannot be put in force so. `warns`: it can, and this will happen. */
  readonly kind: 'stops' | 'warns';
  /** The part of the definition, as a path of names: `fields.email.mappings.crm`. */
  readonly at: string;
  readonly says: string;
}
