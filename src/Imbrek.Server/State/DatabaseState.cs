using System.Diagnostics;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;
using Host = Imbrek.Core.Fleet.Host;

namespace Imbrek.Server.State;

/// <summary>
/// One database in memory: its sets, what was learned, its proof, and figures made from them, which stay until something about it
/// changes or they are too old.
/// </summary>
internal sealed class DatabaseState
{
    /// <summary>The window of the observed figures.</summary>
    public static readonly Duration Window = Duration.FromDays(7);

    /// <summary>Figures without an event in between are made again when they are older than this: the window has moved on.</summary>
    private static readonly Duration MaxAge = Duration.FromMinutes(15);

    /// <summary>Told how many seconds each evaluation took.</summary>
    public static Action<double>? Evaluated { get; set; }

    private readonly Lock gate = new();
    private readonly Dictionary<string, Cached> figures = [];
    private readonly Dictionary<Id<BackupSet>, BackupSet> pending = [];
    private readonly Dictionary<(Id<Replica>, Instant From), LagStretch> pendingLag = [];
    private RecoverySubject subject;
    private IReadOnlyDictionary<Id<Replica>, ReplicaNote> notes = new Dictionary<Id<Replica>, ReplicaNote>();
    private long version;
    private IReadOnlyList<Finding>? findings;
    private Instant findingsAt;
    private Instant findingsUntil;
    private IReadOnlyDictionary<(Id<Store>, Id<Host>), LearnedPace> learned = new Dictionary<(Id<Store>, Id<Host>), LearnedPace>();
    private Proofs proofs = Proofs.None;

    public DatabaseState(FleetModel fleet, Database database, DatabaseCatalogue catalogue) =>
        subject = RecoverySubject.Of(fleet, database, catalogue);

    private sealed record Cached(Instant At, Instant Until, Survival? Left, LossFigures Figures, IReadOnlyList<ClosedInterval> Recoverable);

    /// <summary>The database with its sets as they are now.</summary>
    public RecoverySubject Subject => Snapshot().Subject;

    /// <summary>What was proved of it.</summary>
    public Proofs Proofs
    {
        get => proofs;
        set
        {
            lock (gate)
            {
                proofs = value;
                Forget();
            }
        }
    }

    public void Change(IEnumerable<BackupSet> sets)
    {
        lock (gate)
        {
            foreach (var s in sets)
            {
                pending[s.Id] = s;
            }

            Forget();
        }
    }

    /// <summary>Takes over stretches of lag of its replicas.</summary>
    public void Change(IEnumerable<LagStretch> stretches)
    {
        lock (gate)
        {
            foreach (var s in stretches)
            {
                pendingLag[(s.Replica, s.From)] = s;
            }

            Forget();
        }
    }

    /// <summary>The same database in another fleet, to be looked at and thrown away: its sets, what was learned and what was proved stay.</summary>
    /// <param name="fleet">The fleet; the database is in it.</param>
    public DatabaseState In(FleetModel fleet)
    {
        var (s, _) = Snapshot();
        return new(fleet, fleet.DatabaseById[s.Database.Id], s.Catalogue) { learned = learned, proofs = proofs, notes = notes, subject = RecoverySubject.Of(fleet, fleet.DatabaseById[s.Database.Id], s.Catalogue).WithNotes(notes) };
    }

    public void Replace(FleetModel fleet, Database database, DatabaseCatalogue? catalogue)
    {
        lock (gate)
        {
            subject = RecoverySubject.Of(fleet, database, catalogue ?? Subject.Catalogue).WithNotes(notes);
            pending.Clear();
            pendingLag.Clear();
            Forget();
        }
    }

    /// <summary>Takes over what is known of its replicas beside their lag.</summary>
    public void Note(IReadOnlyDictionary<Id<Replica>, ReplicaNote> known)
    {
        lock (gate)
        {
            notes = known;
            subject = subject.WithNotes(known);
            Forget();
        }
    }

    public void Learn(IReadOnlyDictionary<(Id<Store>, Id<Host>), LearnedPace> paces)
    {
        lock (gate)
        {
            learned = paces;
            Forget();
        }
    }

    public LearnedPace? Learned(Id<Store> store, Id<Host> host) => learned.GetValueOrDefault((store, host));

    /// <summary>What is observed under a loss, as of now (kept) or as of an instant (made for the asking).</summary>
    public (LossFigures Figures, IReadOnlyList<ClosedInterval> Recoverable) Observe(Loss loss, Instant at, bool now) => Observe(Snapshot(), loss, at, now);

    /// <summary>The verdict over all losses the objective names, and that of each; all of them of one state of the database.</summary>
    /// <param name="at">Now, or the as-of instant.</param>
    /// <param name="now">Whether it is now.</param>
    /// <param name="plans">What plans will come to; counts for now alone.</param>
    public (Judgement Overall, IReadOnlyList<(LossKind Kind, Judgement Judgement, LossFigures Figures)> ByLoss) Judge(Instant at, bool now, DesignedState plans)
    {
        var snapshot = Snapshot();
        var s = snapshot.Subject;
        var kinds = s.Objective?.Against ?? [LossKind.None];
        var each = kinds.Select(k =>
        {
            var f = With(Observe(snapshot, Loss.OfKind(k), at, now).Figures, now, plans);
            return (k, Judge([f], at, plans), f);
        }).ToArray();
        return (Judge(each.Select(e => e.f), at, plans), each);
    }

    /// <summary>The verdict under one loss.</summary>
    public Judgement Judge(LossFigures figures, Instant at, bool now, DesignedState plans) => Judge([With(figures, now, plans)], at, plans);

    private Judgement Judge(IEnumerable<LossFigures> figures, Instant at, DesignedState plans) =>
        Judgement.Of(subject.Database, subject.Fleet, subject.Objective, figures, proofs.At(at), at, plans.PlanChanged(subject.Database));

    private LossFigures With(LossFigures figures, bool now, DesignedState plans) => now ? figures with { Designed = plans.OutlookOf(subject.Database.Id, figures.Loss) } : figures;

    /// <summary>How it stands proven against a loss; null when it has no objective.</summary>
    /// <param name="loss">The kind of loss.</param>
    /// <param name="at">Now, or the as-of instant.</param>
    /// <param name="plans">When its plans were changed last.</param>
    public ProofStanding? Standing(LossKind loss, Instant at, DesignedState plans) =>
        Subject is { Objective: { } o } s ? proofs.At(at).Standing(s.Database, s.Fleet, o, loss, at, plans.PlanChanged(s.Database)) : null;

    public IReadOnlyList<Finding> Findings(Instant at, Instant? planChanged)
    {
        var (s, seen) = Snapshot();
        lock (gate)
        {
            if (findings is not null && at >= findingsAt && at < findingsUntil && version == seen)
            {
                return findings;
            }
        }

        var made = FindingRules.Of(s, proofs, at, Window, planChanged);
        lock (gate)
        {
            if (version == seen)
            {
                (findings, findingsAt, findingsUntil) = (made, at, ValidUntil(s, at));
            }
        }

        return made;
    }

    private (LossFigures Figures, IReadOnlyList<ClosedInterval> Recoverable) Observe((RecoverySubject Subject, long Version) snapshot, Loss loss, Instant at, bool now)
    {
        var (s, seen) = snapshot;
        var resolved = loss.For(s.Database, s.Fleet);
        var key = resolved.ToString();
        Survival? left = null;
        if (now)
        {
            lock (gate)
            {
                if (version == seen && figures.TryGetValue(key, out var kept) && at >= kept.At && at < kept.Until)
                {
                    return (kept.Figures, kept.Recoverable);
                }

                left = Survival.Of(s, resolved);
                if (version == seen && left is not null && figures.Values.FirstOrDefault(k => k.Left == left && k.Figures.NoPath is null && at >= k.At && at < k.Until) is { } same)
                {
                    var its = same with { Figures = same.Figures with { Loss = resolved } };
                    figures[key] = its;
                    return (its.Figures, its.Recoverable);
                }
            }
        }

        var began = Stopwatch.GetTimestamp();
        var made = Observer.Observe(s, resolved, at, Window, Learned);
        var recoverable = Evaluator.RecoverableAt(s, resolved, at);
        Evaluated?.Invoke(Stopwatch.GetElapsedTime(began).TotalSeconds);
        if (now)
        {
            lock (gate)
            {
                // What changed while it was computed must not be hidden behind it.
                if (version == seen)
                {
                    figures[key] = new Cached(at, ValidUntil(s, at), left, made, recoverable);
                }
            }
        }

        return (made, recoverable);
    }

    private static Instant ValidUntil(RecoverySubject s, Instant at) =>
        Instant.Min(at + MaxAge, s.NextChange(at) ?? Instant.MaxValue);

    private (RecoverySubject Subject, long Version) Snapshot()
    {
        lock (gate)
        {
            if (pending.Count > 0)
            {
                subject = RecoverySubject.Of(subject.Fleet, subject.Database, subject.Catalogue.With(pending.Values)).WithNotes(notes);
                pending.Clear();
            }

            if (pendingLag.Count > 0)
            {
                subject = subject.With(pendingLag.Values);
                pendingLag.Clear();
            }

            return (subject, version);
        }
    }

    private void Forget()
    {
        version++;
        figures.Clear();
        findings = null;
    }
}
