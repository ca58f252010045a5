import {
  afterRenderEffect,
  ChangeDetectionStrategy,
  Component,
  computed,
  DestroyRef,
  ElementRef,
  inject,
  input,
  output,
  signal,
  viewChild,
} from '@angular/core';
import { MatSliderModule } from '@angular/material/slider';
import type { EvidenceSurvey } from '@anchor-knot/contracts';
import { BarController, BarElement, Chart, LinearScale, type Plugin, Tooltip } from 'chart.js';
import { Theme } from '../../../shell/theme';
import { plural } from '../../../words/sentences';

Chart.register(BarController, BarElement, LinearScale, Tooltip);

export interface Thresholds {
  readonly upper: number;
  readonly lower: number;
}

const width = 0.5;
const least = -10;
const most = 40.5;

/**
 * How many pairs have which score, with two lines that can be moved: from the right one on pairs are tied, between them
 * a person is asked.
 */
@Component({
  selector: 'ak-score-chart',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatSliderModule],
  templateUrl: './scoreChart.html',
  styleUrl: './scoreChart.scss',
})
export class ScoreChart {
  readonly bins = input.required<EvidenceSurvey['bins']>();
  readonly thresholds = input.required<Thresholds>();
  readonly mayMove = input(true);
  /** While a line is moved. */
  readonly moving = output<Thresholds>();
  /** When it was let go. */
  readonly moved = output<Thresholds>();
  readonly #theme = inject(Theme);
  private readonly canvas = viewChild.required<ElementRef<HTMLCanvasElement>>('canvas');
  protected readonly least = least;
  protected readonly width = width;
  protected readonly to = computed(() => Math.min(most, Math.max(20, (this.bins().at(-1)?.from ?? 0) + 2)));
  protected readonly edges = signal({ left: 0, right: 0 });
  protected readonly words = computed(() =>
    plural(
      this.bins().reduce((sum, { pairs }) => sum + pairs, 0),
      'pair',
    ),
  );
  #chart: Chart | undefined;
  #gone = false;

  constructor() {
    afterRenderEffect(() => {
      this.#theme.dark();
      const [bins, thresholds, to] = [this.bins(), this.thresholds(), this.to()];
      void document.fonts
        .load('12px "Atkinson Hyperlegible Mono Variable"')
        .then(() => !this.#gone && this.#draw(bins, thresholds, to));
    });
    inject(DestroyRef).onDestroy(() => {
      this.#gone = true;
      this.#chart?.destroy();
    });
  }

  /** Where the lines were moved to last: the input is told only when the view is drawn again. */
  #last: Thresholds | undefined;
  /** Asking never begins above tying: the slider keeps its two ends in order. */
  protected move(change: Partial<Thresholds>): void {
    this.#last = { ...this.thresholds(), ...this.#last, ...change };
    this.moving.emit(this.#last);
  }
  /** A line was let go. */
  protected settle(): void {
    if (this.#last) this.moved.emit(this.#last);
    this.#last = undefined;
  }

  #draw(bins: EvidenceSurvey['bins'], { upper, lower }: Thresholds, to: number): void {
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string): string => style.getPropertyValue(`--${name}`).trim();
    const font = { family: 'Atkinson Hyperlegible Mono Variable', size: 11.5 };
    const colourOf = (from: number): string => colour(from >= upper ? 'petrol' : from >= lower ? 'brass' : 'ink-3');
    const at = ({ from }: EvidenceSurvey['bins'][number]): number => from + width / 2;
    const lines: Plugin = {
      id: 'thresholds',
      afterDraw: ({ ctx, chartArea: { top, bottom }, scales }) => {
        for (const [bits, name] of [
          [lower, 'brass'],
          [upper, 'petrol'],
        ] as const) {
          const x = scales.x?.getPixelForValue(bits) ?? 0;
          ctx.save();
          ctx.strokeStyle = colour(name);
          ctx.lineWidth = 2;
          ctx.beginPath();
          ctx.moveTo(x, top);
          ctx.lineTo(x, bottom);
          ctx.stroke();
          ctx.restore();
        }
      },
    };
    this.#chart?.destroy();
    this.#chart = new Chart(this.canvas().nativeElement, {
      type: 'bar',
      data: {
        datasets: [
          // What is disputed goes to a person, whatever its score.
          {
            data: bins.map((bin) => ({ x: at(bin), y: bin.disputed })),
            backgroundColor: bins.map(({ from }) => (from >= upper ? colour('brass') : colourOf(from))),
          },
          {
            data: bins.map((bin) => ({ x: at(bin), y: bin.pairs - bin.disputed })),
            backgroundColor: bins.map(({ from }) => colourOf(from)),
          },
        ],
      },
      options: {
        animation: false,
        maintainAspectRatio: false,
        responsive: true,
        datasets: { bar: { barThickness: 6, grouped: false } },
        plugins: {
          legend: { display: false },
          tooltip: {
            displayColors: false,
            callbacks: {
              title: ([item]) => {
                const middle = Number(item?.parsed.x);
                return item ? `${(middle - width / 2).toFixed(1)} to ${(middle + width / 2).toFixed(1)} bits` : '';
              },
              label: ({ parsed, datasetIndex }) =>
                `${plural(Number(parsed.y), 'pair')}${datasetIndex === 0 ? ', disputed' : ''}`,
            },
            filter: ({ parsed }) => Number(parsed.y) > 0,
          },
        },
        scales: {
          x: {
            type: 'linear',
            min: least,
            max: to,
            stacked: true,
            offset: false,
            grid: { display: false },
            border: { color: colour('hair') },
            ticks: { color: colour('ink-2'), font, stepSize: 5, maxRotation: 0 },
            title: { display: false },
          },
          y: {
            beginAtZero: true,
            stacked: true,
            grid: { color: colour('hair-2') },
            border: { display: false },
            ticks: { color: colour('ink-2'), font, precision: 0, maxTicksLimit: 4 },
          },
        },
      },
      plugins: [lines],
    });
    const { left, right } = this.#chart.chartArea;
    this.edges.set({ left, right: this.#chart.width - right });
  }
}
