import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense } from 'react';
import { Navigate, Route, Routes, useLocation } from 'react-router';
import { api, ApiError, got, setToken } from '../api/client';
import { SignInPage } from '../features/signin/SignInPage';
import { Failure } from '../shared/Failure';
import { Frame } from './Frame';
import { PageFault } from './PageFault';
import { SessionContext } from './session';

const FleetPage = lazy(() => import('../features/fleet/FleetPage'));
const DatabasePage = lazy(() => import('../features/database/DatabasePage'));
const RecoverPage = lazy(() => import('../features/recover/RecoverPage'));
const SeveralPage = lazy(() => import('../features/recover/SeveralPage'));
const MovePage = lazy(() => import('../features/moves/MovePage'));
const SecondDatabasePage = lazy(() => import('../features/secondDatabase/SecondDatabasePage'));
const AdHocPage = lazy(() => import('../features/database/AdHocPage'));
const PartsPage = lazy(() => import('../features/fleetParts/PartsPage'));
const PartPage = lazy(() => import('../features/fleetParts/PartPage'));
const InventoryPage = lazy(() => import('../features/inventory/InventoryPage'));
const AgreedPage = lazy(() => import('../features/fleetParts/AgreedPage'));
const ChangesPage = lazy(() => import('../features/changes/ChangesPage'));
const ChangePage = lazy(() => import('../features/changes/ChangePage'));
const CopiesPage = lazy(() => import('../features/copies/CopiesPage'));
const NewCopyPage = lazy(() => import('../features/copies/NewCopyPage'));
const ReplicasPage = lazy(() => import('../features/replicas/ReplicasPage'));
const NewDatabasePage = lazy(() => import('../features/newDatabase/NewDatabasePage'));
const NewReplicaPage = lazy(() => import('../features/replicas/NewReplicaPage'));
const ReplicaPage = lazy(() => import('../features/replicas/ReplicaPage'));
const DrillsPage = lazy(() => import('../features/drills/DrillsPage'));
const NewDrillPage = lazy(() => import('../features/drills/NewDrillPage'));
const JointDrillPage = lazy(() => import('../features/drills/JointDrillPage'));
const SitePage = lazy(() => import('../features/drills/SitePage'));
const RunPage = lazy(() => import('../features/runs/RunPage'));
const PlansPage = lazy(() => import('../features/plans/PlansPage'));
const PlanPage = lazy(() => import('../features/plans/PlanPage'));
const ComparePage = lazy(() => import('../features/plans/ComparePage'));
const TimetablePage = lazy(() => import('../features/timetable/TimetablePage'));
const RunsPage = lazy(() => import('../features/runs/RunsPage'));
const NoticesPage = lazy(() => import('../features/notices/NoticesPage'));
const EvidencePage = lazy(() => import('../features/evidence/EvidencePage'));
const WelcomePage = lazy(() => import('../features/people/WelcomePage'));
const SetupPage = lazy(() => import('../features/setup/SetupPage'));

export function App() {
  // Who was handed a one-time address has nobody to be yet.
  if (location.pathname === '/welcome')
    return (
      <Suspense fallback={null}>
        <WelcomePage />
      </Suspense>
    );
  return <SignedIn />;
}

function SignedIn() {
  const { pathname } = useLocation();
  const me = useQuery({
    queryKey: ['me'],
    staleTime: Infinity,
    queryFn: async () => {
      const answer = await got(api.GET('/api/me'));
      setToken(answer.antiforgeryToken);
      return answer;
    },
  });

  if (me.isPending) return <Box sx={{ p: 4, color: 'text.secondary' }}>Opening…</Box>;
  if (me.error instanceof ApiError && me.error.status === 401)
    return <SignInPage onSignedIn={() => void me.refetch()} />;
  if (me.error) return <Failure error={me.error} again={() => void me.refetch()} />;
  return (
    <SessionContext value={me.data}>
      <Frame>
        <PageFault page={pathname}>
          <Suspense fallback={<Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>}>
            <Routes>
              <Route path="/" element={<Navigate to="/fleet" replace />} />
              <Route path="/fleet" element={<FleetPage />} />
              <Route path="/databases/new" element={<NewDatabasePage />} />
              <Route path="/databases/:id" element={<DatabasePage />} />
              <Route path="/databases/:id/copy" element={<AdHocPage />} />
              <Route path="/recover" element={<RecoverPage />} />
              <Route path="/recover/several" element={<SeveralPage />} />
              <Route path="/recover/:id" element={<RecoverPage />} />
              <Route path="/moves/new" element={<MovePage />} />
              <Route path="/second/new" element={<SecondDatabasePage />} />
              <Route path="/changes" element={<ChangesPage />} />
              <Route path="/changes/new" element={<ChangePage />} />
              <Route path="/changes/:id" element={<ChangePage />} />
              <Route path="/copies" element={<CopiesPage />} />
              <Route path="/copies/new" element={<NewCopyPage />} />
              <Route path="/replicas" element={<ReplicasPage />} />
              <Route path="/replicas/new" element={<NewReplicaPage />} />
              <Route path="/replicas/:id" element={<ReplicaPage />} />
              <Route path="/drills" element={<DrillsPage />} />
              <Route path="/drills/new" element={<NewDrillPage />} />
              <Route path="/drills/joint" element={<JointDrillPage />} />
              <Route path="/drills/site" element={<SitePage />} />
              <Route path="/runs/:id" element={<RunPage />} />
              <Route path="/plans" element={<PlansPage />} />
              <Route path="/plans/compare" element={<ComparePage />} />
              <Route path="/plans/:id" element={<PlanPage />} />
              <Route path="/timetable" element={<TimetablePage />} />
              <Route path="/runs" element={<RunsPage />} />
              <Route path="/notices" element={<NoticesPage />} />
              <Route path="/evidence" element={<EvidencePage />} />
              <Route path="/setup" element={<SetupPage />} />
              <Route path="/setup/fleet" element={<Navigate to="/setup/fleet/databases" replace />} />
              <Route path="/setup/fleet/:list" element={<PartsPage />} />
              <Route path="/setup/fleet/:list/:id" element={<PartPage />} />
              <Route path="/setup/inventory" element={<InventoryPage />} />
              <Route path="/agreed" element={<AgreedPage />} />
              <Route path="*" element={<Box sx={{ p: 3 }}>There is no such page. Press 1 for the fleet.</Box>} />
            </Routes>
          </Suspense>
        </PageFault>
      </Frame>
    </SessionContext>
  );
}
