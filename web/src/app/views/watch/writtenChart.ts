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
import { BarController, BarElement, CategoryScale, Chart, LinearScale, Tooltip } from 'chart.js';
import { Theme } from '../../shell/theme';

Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip);

/** What was written in one hour or day, and what was not taken. */
export interface WrittenBar {
  readonly label: string;
  readonly written: number;
  readonly failed: number;
}

/** What was written over time. */
@Component({
  selector: 'ak-written-chart',
  changeDetection: ChangeDetectionStrategy.OnPush,
  templateUrl: './writtenChart.html',
  styles: `:host { display: block; height: 150px; position: relative; }`,
})
export class WrittenChart {
  readonly bars = input.required<readonly WrittenBar[]>();
  /** What the chart shows, in words. */
  readonly says = input.required<string>();
  /** What is counted. */
  readonly of = input('values');
  readonly #theme = inject(Theme);
  private readonly canvas = viewChild.required<ElementRef<HTMLCanvasElement>>('canvas');
  #chart: Chart | undefined;
  #gone = false;

  constructor() {
    afterRenderEffect(() => {
      this.#theme.dark();
      const [bars, of] = [this.bars(), this.of()];
      // A canvas does not wait for fonts by itself.
      void document.fonts
        .load('12px "Atkinson Hyperlegible Mono Variable"')
        .then(() => !this.#gone && this.#draw(bars, of));
    });
    inject(DestroyRef).onDestroy(() => {
      this.#gone = true;
      this.#chart?.destroy();
    });
  }

  #draw(bars: readonly WrittenBar[], of: string): void {
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string): string => style.getPropertyValue(`--${name}`).trim();
    const font = { family: 'Atkinson Hyperlegible Mono Variable', size: 11.5 };
    this.#chart?.destroy();
    this.#chart = new Chart(this.canvas().nativeElement, {
      type: 'bar',
      data: {
        labels: bars.map(({ label }) => label),
        datasets: [
          {
            label: `${of} written`,
            data: bars.map(({ written }) => written),
            backgroundColor: colour('petrol'),
            barPercentage: 0.7,
          },
          {
            label: `${of} not taken`,
            data: bars.map(({ failed }) => failed),
            backgroundColor: colour('vermilion'),
            barPercentage: 0.7,
          },
        ],
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        responsive: true,
        plugins: {
          legend: { display: false },
          tooltip: {
            displayColors: false,
            callbacks: { label: ({ parsed, dataset }) => `${parsed.y} ${dataset.label}` },
          },
        },
        scales: {
          x: {
            stacked: true,
            grid: { display: false },
            border: { color: colour('hair') },
            ticks: { color: colour('ink-2'), font, maxRotation: 0, autoSkip: true, maxTicksLimit: 7 },
          },
          y: {
            stacked: true,
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
