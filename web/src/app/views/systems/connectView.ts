import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed, toSignal } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { NgTemplateOutlet } from '@angular/common';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { Router, RouterLink } from '@angular/router';
import type { OpenApiReading, Pennant as PennantSettings, Probe, System, Units } from '@anchor-knot/contracts';
import { map, of, startWith } from 'rxjs';
import { Api, callbackAddress } from '../../api/api';
import { Asking } from '../../api/asking';
import { load } from '../../api/loaded';
import { Pennant } from '../../pennant/pennant';
import { State } from '../state';
import { DatabaseObjects } from './databaseObjects';
import { FolderObjects } from './folderObjects';
import { HttpObjects } from './httpObjects';
import { ODataObjects } from './odataObjects';
import { ProbeSteps } from './probeSteps';
import { colours, draftOf, emptyDraft, lettersFor, objectExamples, patterns, readDraft, readObjects, webhooksExample, type SystemDraft } from './systemDraft';

const text = (value: string) => new FormControl(value, { nonNullable: true });

/** Connects a system, or changes one: what it is, where it is, how to sign in, what is in it; tried before it is kept. */
@Component({
  selector: 'ak-connect-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, RouterLink, MatButtonModule, Pennant, State, ProbeSteps, DatabaseObjects, FolderObjects, HttpObjects, ODataObjects, NgTemplateOutlet],
  template: `
    <div class="page">
      <header><h1>{{ id() ? 'Change ' + (view.value()?.summary?.name ?? 'a system') : 'Connect a system' }}</h1><small>{{ id() ? 'What uses it works by the change from its next run on.' : 'Nothing is written there by connecting or testing it.' }}</small></header>
      @if (id()) { <ak-state [of]="view" /> }
      @if (!id() || view.value()) {
        <div class="body">
          <form class="scroll typed" [formGroup]="form" (ngSubmit)="save()">
            <fieldset>
              <legend>What it is</legend>
              <div class="kinds" role="radiogroup" aria-label="Kind">@for (kind of kinds; track kind.id) {<label><input type="radio" formControlName="kind" [value]="kind.id" /> <span><strong>{{ kind.name }}</strong><small>{{ kind.says }}</small></span></label>}</div>
              <div class="row">
                <label class="wide">Name<input formControlName="name" maxlength="200" /></label>
                <label>Environment<select formControlName="environment"><option value="production">production</option><option value="test copy">test copy</option></select></label>
              </div>
              <div class="row">
                <label>Pennant<select formControlName="pattern">@for (one of patterns; track one) {<option [value]="one">{{ one }}</option>}</select></label>
                <label>Colour<select formControlName="colour">@for (one of colours; track one) {<option [value]="one">{{ one }}</option>}</select></label>
                <label class="narrow">Letters<input formControlName="letters" maxlength="2" [placeholder]="pennant().letters" /></label>
                <span class="flag"><ak-pennant [settings]="pennant()" [name]="draft().name || 'Name'" [shown]="true" /></span>
              </div>
              <label class="wide">Note<input formControlName="note" maxlength="2000" placeholder="Whose it is, what to know before it is changed" /></label>
            </fieldset>
            <fieldset>
              <legend>Where it is, and how to sign in</legend>
              @switch (draft().kind) {
                @case ('http') {
                  <div class="row"><label class="wide">Address<input formControlName="address" type="url" placeholder="https://crm.example.com" spellcheck="false" /></label><label class="narrow">Time limit, s<input formControlName="seconds" inputmode="decimal" /></label></div>
                  <ng-container [ngTemplateOutlet]="signIn" />
                  <details><summary>Organisation, company or unit, where the account sees several</summary>
                    <div class="row"><label class="wide">Units, path<input formControlName="unitPath" placeholder="/api/companies" spellcheck="false" /></label><label>Units in<input formControlName="unitItems" placeholder="the answer itself" spellcheck="false" /></label><label class="narrow">Id in<input formControlName="unitId" spellcheck="false" /></label><label class="narrow">Name in<input formControlName="unitName" spellcheck="false" /></label><label>Units, header<input formControlName="unitHeader" placeholder="x-company" spellcheck="false" /></label></div>
                    <div class="row"><button mat-stroked-button type="button" [disabled]="!tried() || asking.busy() || draft().unitPath === ''" (click)="listUnits()">Ask which there are</button><label>Work in<select formControlName="unitChosen"><option value="">whatever it takes by itself</option>@for (one of units(); track one.id) {<option [value]="one.id">{{ one.name }}</option>}@if (draft().unitChosen && !hasUnit(draft().unitChosen)) {<option [value]="draft().unitChosen">{{ draft().unitChosen }}</option>}</select></label></div>
                  </details>
                  <details><summary>Webhooks: how it is subscribed to</summary>
                    <label class="wide">As JSON<textarea formControlName="webhooks" rows="8" spellcheck="false" placeholder="none"></textarea></label> <button mat-button type="button" (click)="webhooksExample()">Start from an example</button><small>An object that has events can then be subscribed to where the system is shown.</small>
                  </details>
                }
                @case ('odata') {
                  <div class="row"><label class="wide">Address<input formControlName="address" type="url" placeholder="https://erp.example.com/odata/v4" spellcheck="false" /></label><label class="narrow">Time limit, s<input formControlName="seconds" inputmode="decimal" /></label><label class="narrow">Page size<input formControlName="pageSize" inputmode="numeric" /></label><label class="narrow">Writes in a batch<input formControlName="batchSize" inputmode="numeric" /></label></div>
                  <small>Of the service root, below which <span class="value">$metadata</span> is found.</small>
                  <ng-container [ngTemplateOutlet]="signIn" />
                }
                @case ('sql') {
                  <div class="row"><label class="wide">Host<input formControlName="host" placeholder="erp-db.example.com" spellcheck="false" /></label><label class="narrow">Port<input formControlName="port" inputmode="numeric" /></label><label>Database<input formControlName="database" spellcheck="false" /></label></div>
                  <div class="row"><label>TLS<select formControlName="tls"><option value="verified">verified: certificate checked</option><option value="required">required: encrypted, not checked</option><option value="off">off: only where the way is safe</option></select></label><label class="narrow">Time limit, s<input formControlName="seconds" inputmode="decimal" /></label></div>
                  <ng-container [ngTemplateOutlet]="credential" />
                }
                @case ('files') { <label class="wide">Folder<input formControlName="folder" placeholder="/srv/exchange/partners" spellcheck="false" /></label><small>A folder on the machine of the workers, in one that this installation may read (FILE_FOLDERS).</small> }
              }
              <ng-template #signIn>
                  <div class="row">
                    <label>Sign-in<select formControlName="signIn"><option value="authorization code">OAuth 2.0, a person gives consent</option><option value="client credentials">OAuth 2.0 client credentials</option><option value="key and secret">key and secret (HTTP Basic)</option><option value="bearer token">bearer token</option><option value="header key">key in a header</option><option value="none">none</option></select></label>
                    @if (draft().signIn === 'client credentials') { <label>Token path<input formControlName="tokenPath" spellcheck="false" /></label><label>Scope<input formControlName="scope" placeholder="none" spellcheck="false" /></label> }
                    @if (draft().signIn === 'header key') { <label>Header<input formControlName="header" spellcheck="false" /></label> }
                  </div>
                  @if (draft().signIn === 'authorization code') {
                    <div class="row"><label class="wide">Consent address<input formControlName="authorizationUrl" type="url" placeholder="https://crm.example.com/oauth/authorize" spellcheck="false" /></label><label class="wide">Token address<input formControlName="tokenUrl" type="url" placeholder="https://crm.example.com/oauth/token" spellcheck="false" /></label></div>
                    <div class="row"><label>Scope<input formControlName="scope" placeholder="contacts.read contacts.write offline_access" spellcheck="false" /></label><label>Revocation address<input formControlName="revocationUrl" type="url" placeholder="none" spellcheck="false" /></label><label>Issuer<input formControlName="issuer" type="url" placeholder="where the tokens come from" spellcheck="false" /></label></div>
                    <p class="small callback">Enter this callback address there: <code class="value">{{ callback }}</code> <button mat-button type="button" (click)="copyCallback()">Copy</button> <br />Once connected, give consent where the system is shown. Sign in there as a service account.</p>
                  }
                  <ng-container [ngTemplateOutlet]="credential" />
                  <details><summary>How many calls it bears</summary><div class="row"><label>Calls a second<input formControlName="perSecond" inputmode="decimal" placeholder="no limit" /></label><label>Calls a day<input formControlName="perDay" inputmode="numeric" placeholder="no limit" /></label><label>Calls at once<input formControlName="atOnce" inputmode="numeric" placeholder="no limit" /></label></div><small>Shared by everything that calls it.</small></details>
              </ng-template>
              <ng-template #credential>
              @if (needsCredential()) {
                <div class="row">
                  <label>{{ draft().kind === 'sql' ? 'Role' : 'Id or key' }}<input formControlName="credentialId" autocomplete="off" spellcheck="false" [placeholder]="view.value()?.signsInAs ?? ''" /></label>
                  <label>{{ draft().kind === 'sql' ? 'Password' : 'Secret' }}<input formControlName="secret" type="password" autocomplete="new-password" [placeholder]="view.value()?.signsInAs ? 'kept as it is' : ''" /></label>
                </div>
                <small>Typed once, kept encrypted, never shown again. Use an account made for this connection, with no more rights than it needs.</small>
              }
              </ng-template>
            </fieldset>
            <fieldset>
              <legend>What is in it</legend>
              @switch (draft().kind) {
                @case ('http') { <ak-http-objects [objects]="objects()" (changed)="setObjects($event)" (read)="takeOver($event)" /> }
                @case ('odata') { <ak-odata-objects [request]="tried()" [objects]="objects()" (changed)="setObjects($event)" /> }
                @case ('sql') { <ak-database-objects [request]="tried()" [objects]="objects()" (changed)="setObjects($event)" /> }
                @case ('files') { <ak-folder-objects [request]="tried()" [objects]="objects()" (changed)="setObjects($event)" /> }
              }
              <details><summary>As JSON</summary>
                <label class="wide">Objects, as JSON<textarea formControlName="objects" rows="12" spellcheck="false"></textarea></label>
                <button mat-button type="button" (click)="example()">Start from an example</button>
              </details>
              <button mat-button type="button" (click)="download()" [disabled]="!reading().ok">Download the description</button>
              <label class="file">Open a description file<input type="file" accept=".json,application/json" (change)="open($event)" /></label>
            </fieldset>
          </form>
          <aside aria-live="polite">
            @if (problems().length > 0) { <h2 [class.wrong]="form.dirty">What is still missing</h2><ul>@for (one of problems(); track $index) {<li><span class="value">{{ one.at }}</span><small>{{ one.says }}</small></li>}</ul> }
            @if (asking.problem(); as one) { <div role="alert"><strong class="wrong">{{ one.says }}</strong><p class="small">{{ one.advice }}</p></div> }
            <p class="acts"><button mat-stroked-button type="button" [disabled]="!reading().ok || asking.busy()" (click)="test()">{{ asking.busy() ? 'Trying…' : 'Test' }}</button> <button mat-flat-button type="button" [disabled]="!reading().ok || asking.busy()" (click)="save()">{{ id() ? 'Save' : 'Connect' }}</button> <a mat-button [routerLink]="id() ? ['/systems', id()] : ['/systems']">Leave</a></p>
            @if (probe(); as result) { <h2>{{ result.ok ? 'It works' : 'It does not work yet' }}</h2><ak-probe-steps [probe]="result" /> } @else { <p class="small">A test goes step by step: reach the host, TLS, sign in, read one page of each object and one record. It writes nothing.</p> }
          </aside>
        </div>
      }
    </div>
  `,
  styles: `
    form { padding: 12px 22px 40px; } fieldset { border: 0; border-bottom: 1px solid var(--hair); margin: 0 0 14px; padding: 0 0 16px; max-width: 860px; } legend { font-weight: 680; padding: 0; margin-bottom: 8px; }
    .kinds { display: grid; grid-template-columns: repeat(4, minmax(0, 1fr)); gap: 10px; margin-bottom: 12px; } .kinds label { display: flex; gap: 8px; align-items: baseline; background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; padding: 8px 10px; color: var(--ink); font-size: 14px; } .kinds small { display: block; } .kinds label { align-items: flex-start; } .kinds input { width: auto; min-height: 0; margin: 4px 0 0; } .acts { display: flex; gap: 8px; margin: 0 0 14px; }
    .row { display: flex; gap: 12px; margin-bottom: 8px; flex-wrap: wrap; align-items: flex-end; } label { flex: 1 1 170px; } .wide { flex: 3 1 320px; } .narrow { flex: 0 1 90px; } .flag { padding-bottom: 6px; } .file { margin-top: 8px; } .file input { border: 0; padding: 4px 0; background: none; }
    details { border-top: 1px solid var(--hair-2); padding: 4px 0; } summary { cursor: pointer; padding: 5px 0; font-size: 13px; } .callback { margin: 0 0 8px; } .callback code { user-select: all; } fieldset small { margin-bottom: 8px; } fieldset > small { display: block; margin-top: 4px; }
    ul { list-style: none; padding: 0; margin: 0 0 12px; } li { padding: 5px 0; border-top: 1px solid var(--hair-2); } li small { display: block; }
  `,
})
export class ConnectView {
  /** Given when a connected system is changed. */
  readonly id = input<string>();
  readonly #api = inject(Api);
  readonly #router = inject(Router);
  readonly #snack = inject(MatSnackBar);
  protected readonly kinds = [
    { id: 'http', name: 'JSON over HTTP', says: 'a REST interface: CRM, shop, desk' },
    { id: 'odata', name: 'OData v4', says: 'a service with $metadata: ERP, planning' },
    { id: 'sql', name: 'SQL database', says: 'PostgreSQL: tables and queries' },
    { id: 'files', name: 'Folder of files', says: 'CSV, JSON Lines, workbooks; deliveries' },
  ] as const;
  protected readonly patterns = patterns;
  protected readonly colours = colours;
  protected readonly view = load(
    computed(() => this.id() ?? ''),
    (id) => (id === '' ? of(undefined) : this.#api.system(id)),
  );
  protected readonly form = new FormGroup({
    ...(Object.fromEntries(Object.entries(emptyDraft).map(([name, value]) => [name, text(value as string)])) as { [Name in keyof SystemDraft]: FormControl<SystemDraft[Name]> }),
    environment: new FormControl<'production' | 'test copy'>('production', { nonNullable: true }),
    pattern: new FormControl<PennantSettings['pattern']>('quarters', { nonNullable: true }),
    colour: new FormControl<PennantSettings['colour']>('plum', { nonNullable: true }),
    letters: text(''),
    note: text(''),
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
  protected readonly needsCredential = computed(() => this.draft().kind === 'sql' || (this.isCalled() && this.draft().signIn !== 'none'));
  protected readonly isCalled = computed(() => this.draft().kind === 'http' || this.draft().kind === 'odata');
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
    return reading.ok ? { description: reading.description, ...(credential ? { credential } : {}), ...(system ? { system } : {}) } : undefined;
  });
  readonly #credential = computed(() => {
    const { credentialId, secret } = this.draft();
    return this.needsCredential() && secret !== '' ? { id: credentialId || (this.view.value()?.signsInAs ?? ''), secret } : undefined;
  });
  protected readonly probe = signal<Probe | undefined>(undefined);
  protected readonly asking = new Asking();

  constructor() {
    // Objects of one kind are none of another: each kind keeps its own while a person looks around.
    const typed = new Map<System['kind'], string>();
    let kind = this.form.controls.kind.value;
    this.form.controls.kind.valueChanges.pipe(takeUntilDestroyed()).subscribe((next) => {
      if (next === kind) return;
      typed.set(kind, this.form.controls.objects.value);
      kind = next;
      this.form.controls.objects.setValue(typed.get(next) ?? '{}');
    });
    // The form is filled once, when the system that it is to change has come.
    const filling = effect(() => {
      const view = this.view.value();
      if (!view) return;
      this.form.patchValue({ ...draftOf(view.description), environment: view.environment, ...view.summary.pennant, note: view.note });
      filling.destroy();
    });
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

  protected hasUnit(id: string): boolean {
    return this.units().some((one) => one.id === id);
  }

  protected listUnits(): void {
    const request = this.tried();
    if (!request) return;
    this.asking.ask(this.#api.units(request), ({ units }) => this.units.set(units));
  }

  protected copyCallback(): void {
    void navigator.clipboard?.writeText(this.callback).then(() => this.#snack.open('Copied.', 'Close', { duration: 2000 }));
  }

  protected webhooksExample(): void {
    this.form.controls.webhooks.setValue(webhooksExample);
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
    const { note, environment } = this.draft();
    const settings = { description: reading.description, pennant: this.pennant(), note, environment };
    const credential = this.#credential();
    const id = this.id();
    const secret = credential ? { credential } : {};
    if (id === undefined) return this.asking.ask(this.#api.connectSystem({ ...settings, ...secret }), (system) => this.#done(system, 'Connected.'));
    const revision = this.view.value()?.revision ?? 0;
    this.asking.ask(this.#api.changeSystem(id, { ...settings, revision, ...secret }), () => this.#done(id, credential ? 'Saved, with the new secret.' : 'Saved.'));
  }

  protected download(): void {
    const reading = this.reading();
    if (!reading.ok) return;
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([JSON.stringify(reading.description, null, 2)], { type: 'application/json' }));
    link.download = `${reading.description.name.replaceAll(/[^\p{L}\p{N}]+/gu, '-')}.system.json`;
    link.click();
    URL.revokeObjectURL(link.href);
  }

  protected async open(event: Event): Promise<void> {
    const [file] = (event.target as HTMLInputElement).files ?? [];
    if (!file) return;
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
    this.#snack.open(says, 'Close', { duration: 5000 });
    void this.#router.navigate(['/systems', system]);
  }
}
