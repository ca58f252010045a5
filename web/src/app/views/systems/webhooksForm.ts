import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { type FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import type { WebhooksDraft } from './webhooksDraft';

/** How a system over HTTP is subscribed to, and how it signs what it delivers. */
@Component({
  selector: 'ak-webhooks-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatFormFieldModule, MatInputModule, MatSelectModule],
  templateUrl: './webhooksForm.html',
})
export class WebhooksForm {
  /** They may be part of a larger form. */
  readonly controls = input.required<{ readonly [Name in keyof WebhooksDraft]: FormControl<WebhooksDraft[Name]> }>();
  readonly draft = input.required<WebhooksDraft>();
}
