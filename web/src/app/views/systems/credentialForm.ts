import { ChangeDetectionStrategy, Component, inject, input, output } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';

/** Replaces what signs in to a system: typed once, never shown again. */
@Component({
  selector: 'ak-credential-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatButtonModule],
  templateUrl: './credentialForm.html',
  styles: `label { margin-bottom: 8px; }`,
})
export class CredentialForm {
  readonly system = input.required<string>();
  readonly idLabel = input('Id');
  readonly secretLabel = input('Secret');
  readonly done = output<boolean>();
  readonly #api = inject(Api);
  protected readonly asking = new Asking();
  protected readonly form = new FormGroup({
    id: new FormControl('', { nonNullable: true, validators: [Validators.required, Validators.maxLength(500)] }),
    secret: new FormControl('', { nonNullable: true, validators: [Validators.required, Validators.maxLength(5000)] }),
  });

  protected save(): void {
    this.asking.ask(this.#api.replaceCredential(this.system(), this.form.getRawValue()), () => this.done.emit(true));
  }
}
