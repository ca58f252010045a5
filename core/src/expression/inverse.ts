import { type ASTNode, parse } from '@marcbachmann/cel-js';
import { failed, good, type Outcome } from '../record/index.js';

/**
 * The formula that leads back: where `formula` makes b of a, the one given makes a of b. It is derived by taking the
 * operations off from the outside, so it exists where the value stands in one place and each operation around it
 * can be undone. Whether it holds for all values is not promised (a text that already began with the added words, a
 * rounding): the laws of the lens tell on samples.
 * @param formula over one name
 * @param name the name of what goes in, and of what goes in on the way back
 * @returns the formula back, or the reason why there is none
 */
export function inverseFormula(formula: string, name = 'value'): Outcome<string> {
  let node: ASTNode;
  try {
    node = parse(formula).ast;
  } catch {
    return failed('the formula cannot be read');
  }
  const guarded = guardedBranch(node, name);
  const back = takeOff(guarded ?? node, name, name, formula);
  if (!back.ok) return back;
  // The outermost brackets were for operations that did not come.
  const bare = isBracketed(back.value) ? back.value.slice(1, -1) : back.value;
  return good(guarded ? `${name} == null ? null : ${bare}` : bare);
}

/** Whether the first bracket is closed by the last character. */
function isBracketed(formula: string): boolean {
  let depth = 0;
  const closes = [...formula].findIndex(
    (character) => (depth += character === '(' ? 1 : character === ')' ? -1 : 0) === 0,
  );
  return formula.startsWith('(') && closes === formula.length - 1;
}

/** Of `value == null ? null : f`, what is done with a value that is there. */
function guardedBranch(node: ASTNode, name: string): ASTNode | undefined {
  if (node.op !== '?:') return undefined;
  const [condition, whenBlank, otherwise] = node.args as readonly [ASTNode, ASTNode, ASTNode];
  if (condition.op !== '==' || !isNull(whenBlank)) return undefined;
  const [left, right] = condition.args as readonly [ASTNode, ASTNode];
  const asks = (isName(left, name) && isNull(right)) || (isName(right, name) && isNull(left));
  return asks ? otherwise : undefined;
}

const isNull = (node: ASTNode): boolean => node.op === 'value' && node.args === null;
const isName = (node: ASTNode, name: string): boolean => node.op === 'id' && node.args === name;

/** Whether the name stands anywhere in a part of the formula. */
function holds(node: unknown, name: string): boolean {
  if (Array.isArray(node)) return node.some((one) => holds(one, name));
  if (typeof node !== 'object' || node === null || !('op' in node)) return false;
  return isName(node as ASTNode, name) || holds((node as ASTNode).args, name);
}

/** Undoes the outermost operation of `node` on `back`, and goes on within. */
function takeOff(node: ASTNode, name: string, back: string, source: string): Outcome<string> {
  const text = (part: ASTNode): string => source.slice(part.range?.start ?? part.pos, part.range?.end ?? undefined);
  if (isName(node, name)) return good(back);
  switch (node.op) {
    case '+':
    case '-':
    case '*':
    case '/': {
      const [left, right] = node.args as readonly [ASTNode, ASTNode];
      if (holds(left, name) && holds(right, name)) return failed(`“${name}” stands in it more than once`);
      const isLeft = holds(left, name);
      const within = isLeft ? left : right;
      const constant = isLeft ? right : left;
      if (constant.op !== 'value')
        return failed(`what is done with “${text(constant)}” cannot be undone: only fixed values can`);
      const fixed = text(constant);
      if (node.op === '+' && typeof constant.args === 'string')
        return takeOff(within, name, isLeft ? `dropEnd(${back}, ${fixed})` : `dropStart(${back}, ${fixed})`, source);
      if (typeof constant.args === 'string') return failed('a text cannot be calculated with');
      if ((node.op === '*' || (node.op === '/' && !isLeft)) && Number(constant.args) === 0)
        return failed('what was multiplied by zero cannot be told any more');
      return takeOff(within, name, `(${undone(node.op, isLeft, back, fixed)})`, source);
    }
    case '-_':
      return takeOff(node.args as ASTNode, name, `-${back}`, source);
    case '!_':
      return takeOff(node.args as ASTNode, name, `!${back}`, source);
    case 'call': {
      const [called, given] = node.args as readonly [string, readonly ASTNode[]];
      const within = given.find((argument) => holds(argument, name));
      if (!within) return failed(`“${name}” does not stand in it`);
      const opposite = opposites[called];
      if (opposite === undefined || given.length !== 1)
        return failed(`${called} cannot be undone: several values give the same one`);
      return takeOff(
        within,
        name,
        opposite === '' ? back : `${opposite}(${isBracketed(back) ? back.slice(1, -1) : back})`,
        source,
      );
    }
    default:
      return failed(holds(node, name) ? 'what it does cannot be undone' : `“${name}” does not stand in it`);
  }
}

/** Functions that lose nothing of what they are usually given, and what undoes them. */
const opposites: Readonly<Record<string, string>> = { number: 'text', text: 'number', trim: '' };

function undone(operator: '+' | '-' | '*' | '/', isLeft: boolean, back: string, fixed: string): string {
  switch (operator) {
    case '+':
      return `${back} - ${fixed}`;
    case '-':
      return isLeft ? `${back} + ${fixed}` : `${fixed} - ${back}`;
    case '*':
      return `${back} / ${fixed}`;
    case '/':
      return isLeft ? `${back} * ${fixed}` : `${fixed} / ${back}`;
    default:
      return operator satisfies never;
  }
}
