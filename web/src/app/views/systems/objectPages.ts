import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { objectPages, type ObjectPages, type System } from '@anchor-knot/contracts';
import { TextField } from '../../fields/textField';
import { tableParts } from '../../tables/rows';

const kinds = [
  { part: 'recordPage', says: 'Page of one record', placeholder: '/contacts/{key}' },
  { part: 'listPage', says: 'Page of all', placeholder: '/contacts' },
] as const;

/** Where people see the records of each object: what links in other views lead to. */
@Component({
  selector: 'ak-object-pages',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, TextField],
  templateUrl: './objectPages.html',
  styleUrl: './objectPages.scss',
})
export class ObjectPagesForm {
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  protected readonly kinds = kinds;
  protected readonly all = computed(() =>
    Object.entries(this.objects() as Record<string, ObjectPages>).map(([name, pages]) => ({ name, pages })),
  );

  protected refuses(part: keyof ObjectPages): (text: string) => string | undefined {
    return (text) => {
      const result = objectPages[part].safeParse(text.trim());
      return result.success ? undefined : `It ${result.error.issues[0]?.message ?? 'cannot be read'}.`;
    };
  }

  protected put(name: string, part: keyof ObjectPages, text: string): void {
    const { [part]: _, ...rest } = (this.objects() as Record<string, ObjectPages>)[name] ?? {};
    const given = text.trim() === '' ? {} : { [part]: text.trim() };
    this.changed.emit({ ...this.objects(), [name]: { ...rest, ...given } } as System['objects']);
  }
}
