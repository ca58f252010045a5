import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { RouterLink } from '@angular/router';
import { graphlib, layout } from '@dagrejs/dagre';

/** A knot on the map, with the knots whose things it refers to. */
export interface MappedKnot {
  readonly id: string;
  readonly name: string;
  readonly says: string;
  readonly refersTo: readonly { readonly knot: string; readonly fields: readonly string[] }[];
}

interface Place {
  readonly x: number;
  readonly y: number;
}

const [knotWidth, knotHeight] = [170, 50];
/** Room for the names of the fields on the way from one to the other. */
const [betweenColumns, betweenRows, margin] = [110, 26, 8];

/**
 * What refers to what: knots as they run together, from left to right, laid out in layers (Sugiyama, Tagawa and Toda
 * 1981, as dagre does it). Each leads to its fields.
 */
@Component({
  selector: 'ak-knot-map',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink],
  templateUrl: './knotMap.html',
  styleUrl: './knotMap.scss',
})
export class KnotMap {
  readonly knots = input.required<readonly MappedKnot[]>();

  protected readonly drawing = computed(() => {
    const shown = connected(this.knots());
    const graph = new graphlib.Graph();
    graph.setGraph({ rankdir: 'LR', ranksep: betweenColumns, nodesep: betweenRows, marginx: margin, marginy: margin });
    graph.setDefaultEdgeLabel(() => ({}));
    for (const { id } of shown) graph.setNode(id, { width: knotWidth, height: knotHeight });
    const known = new Set(shown.map(({ id }) => id));
    for (const { id, refersTo } of shown)
      for (const { knot } of refersTo) if (known.has(knot) && knot !== id) graph.setEdge(knot, id);
    layout(graph);
    const size = graph.graph() as { readonly width?: number; readonly height?: number };
    return {
      width: size.width ?? 0,
      height: size.height ?? 0,
      knots: shown.map((knot) => {
        const { x, y } = graph.node(knot.id) as Place;
        return { ...knot, left: x - knotWidth / 2, top: y - knotHeight / 2, own: fieldsTo(knot, knot.id) };
      }),
      lines: shown.flatMap((knot) =>
        knot.refersTo.flatMap(({ knot: to, fields }) => {
          if (!known.has(to) || to === knot.id) return [];
          // The arrow leads from what refers to what is referred to: against the order of the layers.
          const points = (graph.edge(to, knot.id) as { readonly points: readonly Place[] }).points.toReversed();
          const middle = points[Math.floor(points.length / 2)] as Place;
          return [{ id: `${knot.id} ${to}`, path: pathOf(points), fields: fields.join(', '), middle }];
        }),
      ),
    };
  });
  protected readonly knotWidth = knotWidth;
  protected readonly knotHeight = knotHeight;
}

/** Knots that refer to others, or that others refer to. */
function connected(knots: readonly MappedKnot[]): readonly MappedKnot[] {
  const referred = new Set(knots.flatMap(({ refersTo }) => refersTo.map(({ knot }) => knot)));
  return knots.filter(({ id, refersTo }) => refersTo.length > 0 || referred.has(id));
}

function fieldsTo({ refersTo }: MappedKnot, knot: string): string {
  return refersTo.find((reference) => reference.knot === knot)?.fields.join(', ') ?? '';
}

const pathOf = (points: readonly Place[]): string =>
  points.map(({ x, y }, index) => `${index === 0 ? 'M' : 'L'}${x.toFixed(1)} ${y.toFixed(1)}`).join(' ');
