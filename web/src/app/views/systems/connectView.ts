import { ChangeDetectionStrategy, Component, computed, DestroyRef, effect, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed, toSignal } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { NgTemplateOutlet } from '@angular/common';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatRadioModule } from '@angular/material/radio';
import { MatSelectModule } from '@angular/material/select';
import { Router, RouterLink } from '@angular/router';
import type {
  ObjectPages,
  OpenApiReading,
  Pennant as PennantSettings,
  Probe,
  Rows,
  System,
  Units,
} from '@anchor-knot/contracts';
import { map, of, startWith } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { callbackAddress } from '../../api/calls';
import { Asking } from '../../api/asking';
import { load } from '../../api/loaded';
import { FileButton } from '../../fields/fileButton';
import { Fold } from '../../fields/fold';
import { FormDrafts } from '../../fields/formDrafts';
import { WithSide } from '../../layout/withSide';
import { Pennant } from '../../pennant/pennant';
import { Downloads } from '../../telling/downloads';
import { Telling } from '../../telling/telling';
import { State } from '../state';
import { DatabaseObjects } from './databaseObjects';
import { FolderObjects } from './folderObjects';
import { GroupObjects } from './groupObjects';
import { HttpObjects } from './httpObjects';
import { ObjectPagesForm } from './objectPages';
import { ODataObjects } from './odataObjects';
import { RowObjects } from './rowObjects';
import { ProbeSteps } from './probeSteps';
import { objectExamples } from './objectExamples';
import { colours, lettersFor, patterns } from './pennantChoices';
import { draftOf, emptyDraft, mayHaveRows, readDraft, readObjects, type SystemDraft } from './systemDraft';
import { TimesForm } from './timesForm';
import { WebhooksForm } from './webhooksForm';

const text = (value: string) => new FormControl(value, { nonNullable: true });

/**
 * Connects a system, or changes one: what it is, where it is, how to sign in, what is in it; tried before it is kept.
 */
@Component({
  selector: 'ak-connect-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    WithSide,
    ReactiveFormsModule,
    RouterLink,
    MatButtonModule,
    MatFormFieldModule,
    MatInputModule,
    MatRadioModule,
    MatSelectModule,
    FileButton,
    Fold,
    Pennant,
    State,
    ProbeSteps,
    DatabaseObjects,
    FolderObjects,
    GroupObjects,
    HttpObjects,
    ODataObjects,
    ObjectPagesForm,
    RowObjects,
    TimesForm,
    WebhooksForm,
    NgTemplateOutlet,
  ],
  templateUrl: './connectView.html',
  styleUrl: './connectView.scss',
})
export class ConnectView {
  /** Given when a connected system is changed. */
  readonly id = input<string>();
  readonly #api = inject(SystemsApi);
  readonly #router = inject(Router);
  readonly #telling = inject(Telling);
  readonly #downloads = inject(Downloads);
  readonly #drafts = inject(FormDrafts);
  /** Whether something was typed before, and is here again. */
  protected readonly isKept = signal(false);
  protected readonly kinds = [
    { id: 'http', name: 'JSON over HTTP', says: 'a REST interface: CRM, shop, desk' },
    { id: 'odata', name: 'OData v4', says: 'a service with $metadata: ERP, planning' },
    { id: 'sql', name: 'SQL database', says: 'PostgreSQL: tables and queries' },
    { id: 'files', name: 'Folder of files', says: 'CSV, JSON Lines, workbooks; deliveries' },
    { id: 'groups', name: 'Counted here', says: 'what things have in common, and sums' },
  ] as const;
  protected readonly patterns = patterns;
  protected readonly colours = colours;
  protected readonly view = load(
    computed(() => this.id() ?? ''),
    (id) => (id === '' ? of(undefined) : this.#api.system(id)),
  );
  protected readonly form = new FormGroup({
    ...(Object.fromEntries(Object.entries(emptyDraft).map(([name, value]) => [name, text(value as string)])) as {
      [Name in keyof SystemDraft]: FormControl<SystemDraft[Name]>;
    }),
    environment: new FormControl<'production' | 'test copy'>('production', { nonNullable: true }),
    pattern: new FormControl<PennantSettings['pattern']>('quarters', { nonNullable: true }),
    colour: new FormControl<PennantSettings['colour']>('plum', { nonNullable: true }),
    letters: text(''),
    note: text(''),
    accessEndsOn: text(''),
    credentialId: text(''),
    secret: text(''),
  });
  protected readonly draft = toSignal(
    this.form.valueChanges.pipe(
      map(() => this.form.getRawValue()),
      startWith(this.form.getRawValue()),
    ),
    { requireSync: true },
  );
  protected readonly reading = computed(() => readDraft(this.draft()));
  protected readonly problems = computed(() => {
    const reading = this.reading();
    return reading.ok ? [] : reading.problems;
  });
  protected readonly pennant = computed<PennantSettings>(() => ({
    pattern: this.draft().pattern,
    colour: this.draft().colour,
    letters: this.draft().letters || lettersFor(this.draft().name),
  }));
  protected readonly needsCredential = computed(
    () => this.draft().kind === 'sql' || (this.isCalled() && this.draft().signIn !== 'none'),
  );
  /** What is counted here is nowhere else. */
  protected readonly isElsewhere = computed(() => this.draft().kind !== 'groups');
  protected readonly isCalled = computed(() => this.draft().kind === 'http' || this.draft().kind === 'odata');
  /** What is folded says how it is set. */
  protected readonly unitWords = computed(() => {
    const { unitPath, unitChosen } = this.draft();
    if (unitPath === '') return 'Organisation, company or unit, where the account sees several';
    return unitChosen === '' ? 'Unit: whatever it takes by itself' : `Unit: ${unitChosen}`;
  });
  protected readonly limitWords = computed(() => {
    const { perSecond, perDay, atOnce } = this.draft();
    const limits = [
      perSecond && `${perSecond} a second`,
      perDay && `${perDay} a day`,
      atOnce && `${atOnce} at once`,
    ].filter(Boolean);
    return `How many calls it bears: ${limits.join(', ') || 'no limit is known'}`;
  });
  protected readonly hookWords = computed(() => {
    const path = this.draft().hookPath.trim();
    return path === '' ? 'Webhooks: it is not subscribed to' : `Webhooks: subscribed to at ${path}`;
  });
  protected readonly timeWords = computed(() => {
    const { zone, ahead } = this.draft();
    const clock = ahead.trim() === '' ? 'its clock is measured' : `they run ${ahead.trim()} s ahead`;
    return `Its times: ${zone.trim() || 'UTC'} where they name no zone; ${clock}`;
  });
  protected readonly pageWords = computed(() => {
    const pages = Object.values(this.objects() as Record<string, ObjectPages>);
    const known = pages.filter(({ recordPage }) => recordPage !== undefined).length;
    const said = known === 0 ? 'no record has a page' : `records of ${known} of ${pages.length} objects`;
    return `Where people see it: ${said}`;
  });
  protected readonly mayHaveRows = computed(() => mayHaveRows(this.draft().kind));
  protected readonly rows = computed(() => JSON.parse(this.draft().rows) as Readonly<Record<string, Rows>>);
  protected readonly rowWords = computed(() => {
    const names = Object.entries(this.rows()).map(([name, { of }]) => `${name} of ${of}`);
    return `Lists in its records: ${names.join(', ') || 'none is an object of its own'}`;
  });
  protected readonly units = signal<Units['units']>([]);
  /** Where people come back to after a consent. */
  protected readonly callback = callbackAddress();
  readonly #objects = computed(() => readObjects({ kind: this.draft().kind, objects: this.draft().objects }));
  protected readonly objects = computed(() => this.#objects().objects);
  /** What a test, a list of tables or a preview is asked with. */
  protected readonly tried = computed(() => {
    const reading = this.reading();
    const credential = this.#credential();
    const system = this.id();
    return reading.ok
      ? { description: reading.description, ...(credential ? { credential } : {}), ...(system ? { system } : {}) }
      : undefined;
  });
  readonly #credential = computed(() => {
    const { credentialId, secret } = this.draft();
    return this.needsCredential() && secret !== ''
      ? { id: credentialId || (this.view.value()?.signsInAs ?? ''), secret }
      : undefined;
  });
  protected readonly probe = signal<Probe | undefined>(undefined);
  protected readonly asking = new Asking();

  constructor() {
    // Objects of one kind are none of another: each kind keeps its own while a person looks around.
    const typed = new Map<System['kind'], Pick<SystemDraft, 'objects' | 'rows'>>();
    let kind = this.form.controls.kind.value;
    this.form.controls.kind.valueChanges.pipe(takeUntilDestroyed()).subscribe((next) => {
      if (next === kind) return;
      const { objects, rows } = this.form.getRawValue();
      typed.set(kind, { objects, rows });
      kind = next;
      this.form.patchValue(typed.get(next) ?? { objects: '{}', rows: '{}' });
    });
    // The form is filled once, when the system that it is to change has come; then with what was typed before.
    const destroyed = inject(DestroyRef);
    const filling = effect(() => {
      const [id, view] = [this.id(), this.view.value()];
      if (id !== undefined && !view) return;
      if (view)
        this.form.patchValue({
          ...draftOf(view.description),
          environment: view.environment,
          ...view.summary.pennant,
          note: view.note,
          accessEndsOn: view.accessEndsOn ?? '',
        });
      this.isKept.set(this.#drafts.keep(this.#draftName(), this.form, destroyed, ['secret']));
      filling.destroy();
    });
  }

  #draftName(): string {
    return `system ${this.id() ?? 'new'}`;
  }

  /** Begins again with what is there now. */
  protected forget(): void {
    this.#drafts.forget(this.#draftName());
    location.reload();
  }

  protected setObjects(objects: System['objects']): void {
    // What is not right yet stays as it was typed.
    this.form.controls.objects.setValue(JSON.stringify({ ...this.#objects().others, ...objects }, null, 2));
    this.form.markAsDirty();
  }

  /** What a document says of the system itself fills what is still empty. */
  protected takeOver({ title, address, signIn }: OpenApiReading): void {
    const { name, address: given } = this.form.controls;
    if (name.value.trim() === '') name.setValue(title);
    if (given.value.trim() === '' && address !== undefined) given.setValue(address);
    this.form.patchValue({
      signIn: signIn.kind,
      ...(signIn.kind === 'client credentials' ? { tokenPath: signIn.tokenPath } : {}),
      ...(signIn.kind === 'header key' ? { header: signIn.header } : {}),
    });
  }

  protected setRows(rows: Readonly<Record<string, Rows>>): void {
    this.form.controls.rows.setValue(JSON.stringify(rows));
    this.form.markAsDirty();
  }

  protected hasUnit(id: string): boolean {
    return this.units().some((one) => one.id === id);
  }

  protected listUnits(): void {
    const request = this.tried();
    if (!request) return;
    this.asking.ask(this.#api.units(request), ({ units }) => this.units.set(units));
  }

  protected copyCallback(): void {
    void navigator.clipboard?.writeText(this.callback).then(() => this.#telling.say('Copied.'));
  }

  protected example(): void {
    this.form.controls.objects.setValue(objectExamples[this.draft().kind]);
  }

  protected test(): void {
    const request = this.tried();
    if (!request) return;
    this.probe.set(undefined);
    this.asking.ask(this.#api.testSystem(request), (probe) => this.probe.set(probe));
  }

  protected save(): void {
    const reading = this.reading();
    if (!reading.ok || this.asking.busy()) return;
    this.probe.set(undefined);
    const { note, environment, accessEndsOn: day } = this.draft();
    const accessEndsOn = day === '' ? null : day;
    const settings = { description: reading.description, pennant: this.pennant(), note, environment, accessEndsOn };
    const credential = this.#credential();
    const id = this.id();
    const secret = credential ? { credential } : {};
    if (id === undefined)
      return this.asking.ask(this.#api.connectSystem({ ...settings, ...secret }), (system) =>
        this.#done(system, 'Connected.'),
      );
    const revision = this.view.value()?.revision ?? 0;
    this.asking.ask(this.#api.changeSystem(id, { ...settings, revision, ...secret }), () =>
      this.#done(id, credential ? 'Saved, with the new secret.' : 'Saved.'),
    );
  }

  protected download(): void {
    const reading = this.reading();
    if (!reading.ok) return;
    const name = reading.description.name.replaceAll(/[^\p{L}\p{N}]+/gu, '-');
    this.#downloads.save(`${name}.system.json`, 'application/json', JSON.stringify(reading.description, null, 2));
  }

  protected async open(file: File): Promise<void> {
    try {
      const description = JSON.parse(await file.text()) as System;
      this.form.patchValue(draftOf(description));
      this.asking.problem.set(undefined);
    } catch {
      this.asking.problem.set({
        code: 'not a description',
        says: `${file.name} is not the description of a system.`,
        advice: 'It is a JSON file as “Download the description” makes it.',
      });
    }
  }

  #done(system: string, says: string): void {
    this.#drafts.forget(this.#draftName());
    this.#telling.say(says);
    void this.#router.navigate(['/systems', system]);
  }
}
