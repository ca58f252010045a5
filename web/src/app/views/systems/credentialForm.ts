import { ChangeDetectionStrategy, Component, inject, input, output } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { SystemsApi } from '../../api/systemsApi';
import { Asking } from '../../api/asking';
import { ProblemText } from '../problem';

/** Replaces what signs in to a system: typed once, never shown again. */
@Component({
  selector: 'ak-credential-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, ReactiveFormsModule, MatButtonModule, MatFormFieldModule, MatInputModule],
  templateUrl: './credentialForm.html',
  styles: `mat-form-field { width: 100%; margin-bottom: 6px; }`,
})
export class CredentialForm {
  readonly system = input.required<string>();
  readonly idLabel = input('Id');
  readonly secretLabel = input('Secret');
  readonly done = output<boolean>();
  readonly #api = inject(SystemsApi);
  protected readonly asking = new Asking();
  protected readonly form = new FormGroup({
    id: new FormControl('', { nonNullable: true, validators: [Validators.required, Validators.maxLength(500)] }),
    secret: new FormControl('', { nonNullable: true, validators: [Validators.required, Validators.maxLength(5000)] }),
  });

  protected save(): void {
    this.asking.ask(this.#api.replaceCredential(this.system(), this.form.getRawValue()), () => this.done.emit(true));
  }
}
