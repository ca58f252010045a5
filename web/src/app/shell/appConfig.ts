import { provideHttpClient, withInterceptors } from '@angular/common/http';
import {
  type ApplicationConfig,
  provideBrowserGlobalErrorListeners,
  provideZonelessChangeDetection,
} from '@angular/core';
import { MATERIAL_ANIMATIONS } from '@angular/material/core';
import { MAT_FORM_FIELD_DEFAULT_OPTIONS, type MatFormFieldDefaultOptions } from '@angular/material/form-field';
import { MAT_SNACK_BAR_DEFAULT_OPTIONS } from '@angular/material/snack-bar';
import { MAT_TOOLTIP_DEFAULT_OPTIONS, type MatTooltipDefaultOptions } from '@angular/material/tooltip';
import { provideRouter, type Routes, withComponentInputBinding, withInMemoryScrolling } from '@angular/router';
import { sessionInterceptor, signedIn } from '../api/session';

/** Nothing flickers while the pointer only passes by. */
const tooltips: MatTooltipDefaultOptions = { showDelay: 400, hideDelay: 0, touchendHideDelay: 1500 };

/** A label stands above its field, and a field is as high as what it says. */
const formFields: MatFormFieldDefaultOptions = {
  appearance: 'outline',
  floatLabel: 'always',
  subscriptSizing: 'dynamic',
  hideRequiredMarker: true,
};

const routes: Routes = [
  {
    path: 'sign-in',
    title: 'Sign in · Anchor Knot',
    loadComponent: () => import('../views/signIn/signInView').then((m) => m.SignInView),
  },
  {
    path: '',
    canActivate: [signedIn],
    children: [
      { path: '', pathMatch: 'full', redirectTo: 'watch' },
      {
        path: 'watch',
        title: 'Watch · Anchor Knot',
        loadComponent: () => import('../views/watch/watchView').then((m) => m.WatchView),
      },
      {
        path: 'decisions',
        title: 'Decisions · Anchor Knot',
        loadComponent: () => import('../views/decisions/decisionsView').then((m) => m.DecisionsView),
      },
      {
        path: 'repair',
        title: 'Repair · Anchor Knot',
        loadComponent: () => import('../views/repair/repairView').then((m) => m.RepairView),
      },
      {
        path: 'knots',
        title: 'Knots · Anchor Knot',
        loadComponent: () => import('../views/knots/knotsView').then((m) => m.KnotsView),
      },
      {
        path: 'knots/new',
        title: 'New knot · Anchor Knot',
        loadComponent: () => import('../views/knots/newKnot').then((m) => m.NewKnotView),
      },
      {
        path: 'knots/first-loads',
        title: 'First loads · Anchor Knot',
        loadComponent: () => import('../views/knots/firstLoads/firstLoadsView').then((m) => m.FirstLoadsView),
      },
      {
        path: 'knots/:id/copy',
        title: 'Copy a knot · Anchor Knot',
        loadComponent: () => import('../views/knots/copyKnot').then((m) => m.CopyKnotView),
      },
      { path: 'knots/:id', pathMatch: 'full', redirectTo: 'knots/:id/fields' },
      {
        path: 'knots/:id/:section',
        title: 'Knot · Anchor Knot',
        loadComponent: () => import('../views/knots/knotView').then((m) => m.OneKnotView),
      },
      {
        path: 'tables',
        title: 'Tables · Anchor Knot',
        loadComponent: () => import('../views/tables/tablesView').then((m) => m.TablesView),
      },
      { path: 'tables/series', pathMatch: 'full', redirectTo: 'tables' },
      {
        path: 'tables/series/:series',
        title: 'Series · Anchor Knot',
        loadComponent: () => import('../views/tables/oneSeries').then((m) => m.OneSeries),
      },
      {
        path: 'anchors',
        title: 'Anchors · Anchor Knot',
        loadComponent: () => import('../views/anchors/anchorsView').then((m) => m.AnchorsView),
      },
      {
        path: 'anchors/:id',
        title: 'Anchor · Anchor Knot',
        loadComponent: () => import('../views/anchors/anchorView').then((m) => m.OneAnchorView),
      },
      {
        path: 'systems',
        title: 'Systems · Anchor Knot',
        loadComponent: () => import('../views/systems/systemsView').then((m) => m.SystemsView),
      },
      {
        path: 'systems/connect',
        title: 'Connect a system · Anchor Knot',
        loadComponent: () => import('../views/systems/connectView').then((m) => m.ConnectView),
      },
      {
        path: 'consent',
        title: 'Consent · Anchor Knot',
        loadComponent: () => import('../views/systems/consentView').then((m) => m.ConsentView),
      },
      {
        path: 'systems/:id',
        title: 'System · Anchor Knot',
        loadComponent: () => import('../views/systems/systemView').then((m) => m.OneSystemView),
      },
      {
        path: 'systems/:id/change',
        title: 'Change a system · Anchor Knot',
        loadComponent: () => import('../views/systems/connectView').then((m) => m.ConnectView),
      },
      { path: 'systems/:id/objects/:object', pathMatch: 'full', redirectTo: 'systems/:id/objects/:object/fields' },
      {
        path: 'systems/:id/objects/:object/:section',
        title: 'Object · Anchor Knot',
        loadComponent: () => import('../views/systems/objectView').then((m) => m.OneObjectView),
      },
      { path: 'notices', pathMatch: 'full', redirectTo: 'notices/happened' },
      {
        path: 'notices/:section',
        title: 'Notices · Anchor Knot',
        loadComponent: () => import('../views/notices/noticesView').then((m) => m.NoticesView),
      },
      {
        path: 'notices/:section/:rule',
        title: 'Notices · Anchor Knot',
        loadComponent: () => import('../views/notices/noticesView').then((m) => m.NoticesView),
      },
      {
        path: 'runs',
        title: 'Runs · Anchor Knot',
        loadComponent: () => import('../views/runs/runsView').then((m) => m.RunsView),
      },
      {
        path: 'runs/:id',
        title: 'Run · Anchor Knot',
        loadComponent: () => import('../views/runs/runView').then((m) => m.OneRunView),
      },
    ],
  },
  {
    path: '**',
    title: 'Nothing here · Anchor Knot',
    loadComponent: () => import('../views/nothingHere').then((m) => m.NothingHere),
  },
];

export const appConfig: ApplicationConfig = {
  providers: [
    provideZonelessChangeDetection(),
    provideBrowserGlobalErrorListeners(),
    provideHttpClient(withInterceptors([sessionInterceptor])),
    provideRouter(routes, withComponentInputBinding(), withInMemoryScrolling({ scrollPositionRestoration: 'enabled' })),
    // Nothing moves but what has moved.
    { provide: MATERIAL_ANIMATIONS, useValue: { animationsDisabled: true } },
    { provide: MAT_FORM_FIELD_DEFAULT_OPTIONS, useValue: formFields },
    { provide: MAT_SNACK_BAR_DEFAULT_OPTIONS, useValue: { duration: 6000 } },
    { provide: MAT_TOOLTIP_DEFAULT_OPTIONS, useValue: tooltips },
  ],
};
