import {
  afterRenderEffect,
  ChangeDetectionStrategy,
  Component,
  DestroyRef,
  ElementRef,
  inject,
  input,
  viewChild,
} from '@angular/core';
import type { Watch } from '@anchor-knot/contracts';
import { BarController, BarElement, CategoryScale, Chart, LinearScale, Tooltip } from 'chart.js';
import { Theme } from '../../shell/theme';

Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip);

/** Values written per hour in the last day. */
@Component({
  selector: 'ak-written-chart',
  changeDetection: ChangeDetectionStrategy.OnPush,
  templateUrl: './writtenChart.html',
  styles: `:host { display: block; height: 150px; position: relative; }`,
})
export class WrittenChart {
  readonly hours = input.required<Watch['written']>();
  readonly total = input(0);
  readonly #theme = inject(Theme);
  private readonly canvas = viewChild.required<ElementRef<HTMLCanvasElement>>('canvas');
  #chart: Chart | undefined;
  #gone = false;

  constructor() {
    afterRenderEffect(() => {
      this.#theme.dark();
      const hours = this.hours();
      // A canvas does not wait for fonts by itself.
      void document.fonts
        .load('12px "Atkinson Hyperlegible Mono Variable"')
        .then(() => !this.#gone && this.#draw(hours));
    });
    inject(DestroyRef).onDestroy(() => {
      this.#gone = true;
      this.#chart?.destroy();
    });
  }

  #draw(hours: Watch['written']): void {
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string): string => style.getPropertyValue(`--${name}`).trim();
    const font = { family: 'Atkinson Hyperlegible Mono Variable', size: 11.5 };
    this.#chart?.destroy();
    this.#chart = new Chart(this.canvas().nativeElement, {
      type: 'bar',
      data: {
        labels: hours.map(({ hour }) =>
          new Date(hour).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' }),
        ),
        datasets: [{ data: hours.map(({ values }) => values), backgroundColor: colour('petrol'), barPercentage: 0.7 }],
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        responsive: true,
        plugins: {
          legend: { display: false },
          tooltip: { displayColors: false, callbacks: { label: ({ parsed }) => `${parsed.y} values` } },
        },
        scales: {
          x: {
            grid: { display: false },
            border: { color: colour('hair') },
            ticks: { color: colour('ink-2'), font, maxRotation: 0, autoSkip: true, maxTicksLimit: 7 },
          },
          y: {
            beginAtZero: true,
            suggestedMax: 10,
            grid: { color: colour('hair-2') },
            border: { display: false },
            ticks: { color: colour('ink-2'), font, precision: 0, maxTicksLimit: 4 },
          },
        },
      },
    });
  }
}
