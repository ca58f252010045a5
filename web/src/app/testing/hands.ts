import type { ComponentFixture } from '@angular/core/testing';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatButtonToggleHarness } from '@angular/material/button-toggle/testing';
import { MatCheckboxHarness } from '@angular/material/checkbox/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatSelectHarness } from '@angular/material/select/testing';

/** A component as a person has it: fields by their labels, buttons and boxes by their words. */
export function hands(fixture: ComponentFixture<unknown>) {
  const loader = TestbedHarnessEnvironment.loader(fixture);
  // Lists, menus and dialogs lie over the page.
  const everywhere = TestbedHarnessEnvironment.documentRootLoader(fixture);
  const host = fixture.nativeElement as HTMLElement;

  async function fieldOf(label: string): Promise<MatFormFieldHarness> {
    const found = await loader.getHarnessOrNull(MatFormFieldHarness.with({ floatingLabelText: label }));
    return (
      found ?? loader.getHarness(MatFormFieldHarness.with({ selector: `mat-form-field:has([aria-label="${label}"])` }))
    );
  }
  async function inputOf(label: string): Promise<MatInputHarness> {
    return (await (await fieldOf(label)).getControl(MatInputHarness)) as MatInputHarness;
  }
  return {
    loader,
    everywhere,
    /** What can be read, with single blanks. */
    text: async () => {
      await fixture.whenStable();
      return (host.textContent ?? '').replaceAll(/\s+/g, ' ').trim();
    },
    buttons: async () => Promise.all((await loader.getAllHarnesses(MatButtonHarness)).map((one) => one.getText())),
    press: async (words: string | RegExp) => (await loader.getHarness(MatButtonHarness.with({ text: words }))).click(),
    toggle: async (words: string) => (await loader.getHarness(MatButtonToggleHarness.with({ text: words }))).check(),
    /** Ticks a box, or takes the tick away. */
    tick: async (words: string | RegExp) =>
      (await loader.getHarness(MatCheckboxHarness.with({ label: words }))).toggle(),
    boxOf: async (words: string | RegExp) => loader.getHarness(MatCheckboxHarness.with({ label: words })),
    /** Types, and leaves the field. @returns what is then said to be wrong with it */
    type: async (label: string, text: string): Promise<string> => {
      const input = await inputOf(label);
      await input.setValue(text);
      await (await input.host()).dispatchEvent('change');
      await input.blur();
      return (await (await fieldOf(label)).getTextErrors()).join(' ');
    },
    typed: async (label: string) => (await inputOf(label)).getValue(),
    choose: async (label: string, option: string | RegExp) => {
      const select = (await (await fieldOf(label)).getControl(MatSelectHarness)) as MatSelectHarness;
      await select.open();
      await select.clickOptions({ text: option });
    },
    chosen: async (label: string) =>
      ((await (await fieldOf(label)).getControl(MatSelectHarness)) as MatSelectHarness).getValueText(),
    rows: async () => {
      await fixture.whenStable();
      return Array.from(host.querySelectorAll('tbody tr'), (row) =>
        (row.textContent ?? '').replaceAll(/\s+/g, ' ').trim(),
      );
    },
    links: async () => {
      await fixture.whenStable();
      return Array.from(host.querySelectorAll('a'), (a) => a.getAttribute('href'));
    },
  };
}
