export * from './series.js';
