import { index, layout, route, type RouteConfig } from '@react-router/dev/routes';

export default [
  layout('shell/frame.tsx', [
    index('site/site.tsx'),
    route('projects', 'projects/projects.tsx'),
    route('projects/:projectId', 'projects/project.tsx'),
    route('projects/:projectId/missing', 'projects/missing.tsx'),
    route('projects/:projectId/report', 'projects/report.tsx'),
    route('space', 'space/space.tsx'),
    route('reclaim', 'reclaim/reclaim.tsx'),
    route('reclaim/caches', 'reclaim/caches.tsx'),
    route('reclaim/aside', 'reclaim/aside.tsx'),
    route('archive', 'archive/archive.tsx'),
    route('archive/:projectId', 'archive/shape.tsx'),
    route('shelf', 'shelf/shelf.tsx'),
    route('ledger', 'ledger/ledger.tsx'),
    route('storage', 'storage/storage.tsx'),
    route('settings', 'settings/settings.tsx'),
    route('*', 'shell/nowhere.tsx'),
  ]),
  route('poster/:fileId', 'shell/poster-data.ts'),
  route('projects/:projectId/export', 'projects/export-data.ts'),
  route('plan', 'shell/plan-data.ts'),
  route('work', 'shell/work-data.ts'),
  route('events', 'shell/events.ts'),
  route('search', 'shell/search-data.ts'),
  route('person', 'shell/person-data.ts'),
] satisfies RouteConfig;
