using System.Collections.Concurrent;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.Server.State;

/// <summary>Designed figures of the whole fleet, made again when plans change or a quarter of a day has passed.</summary>
internal sealed class DesignedState(FleetState fleet)
{
    private static readonly Duration MaxAge = Duration.FromHours(6);

    /// <summary>How many databases make a fleet large, and of how many figures come first then.</summary>
    private const int Many = 2_000;
    private const int First = 300;

    private readonly SemaphoreSlim making = new(1);
    private volatile Snapshot? kept;
    private volatile InWork? inWork;

    /// <summary>How many databases have figures so far, of how many.</summary>
    public sealed record DesignProgress(int Made, int Of);

    /// <summary>Figures that are being made: those that are there are shown.</summary>
    private sealed record InWork(FleetModel Fleet, Instant From, int Of)
    {
        public ConcurrentDictionary<Id<Database>, (RecoverySubject Subject, IReadOnlyList<DesignedFigures> Figures)> Made { get; } = new();

        public ConcurrentDictionary<(Id<Database>, Loss), DesignedFigures> Supposed { get; } = new();
    }

    private sealed record Snapshot(FleetModel Fleet, DesignAnswer Answer, Dictionary<Id<Database>, DatabaseLoad> Loads, IReadOnlyDictionary<Id<Store>, StoreForecast> Stores)
    {
        /// <summary>Figures for losses that objectives do not name, made when somebody supposes them.</summary>
        public ConcurrentDictionary<(Id<Database>, Loss), DesignedFigures> Supposed { get; } = new();

        /// <summary>Clashes by the database that they hit worst.</summary>
        public ILookup<string, Clash> ClashesOf { get; } = Answer.Prediction.Clashes.Where(c => c.Database is not null).ToLookup(c => c.Database!);

        public IReadOnlyList<Clash> FullStores { get; } =
            [.. Stores.Where(s => s.Value.FullOn is not null).Select(s => new Clash(ClashKind.StoreFull, null, null, s.Key.Value, s.Value.FullOn!.Value, 1, 0, null))];
    }

    /// <summary>How a database lives, learned from its sets.</summary>
    public DatabaseLoad LoadOf(Database database, Instant at) =>
        kept is { } k && k.Loads.TryGetValue(database.Id, out var load) && at - k.Answer.From < MaxAge * 2
            ? load
            : Learn(fleet.Fleet, database, at);

    /// <summary>What was last learned of a database, however old; null while nothing was.</summary>
    public DatabaseLoad? KnownLoadOf(Database database) => kept?.Loads.GetValueOrDefault(database.Id);

    private DatabaseLoad Learn(FleetModel f, Database d, Instant at) => DatabaseLoad.Learned(d, fleet[d.Id].Subject.Catalogue, at, f.PlansOf(d).SelectMany(p => p.Tasks));

    /// <summary>The figures as they are; null while they have not been made.</summary>
    public DesignAnswer? Known => kept is { } k && ReferenceEquals(k.Fleet.Plans, fleet.Fleet.Plans) ? k.Answer : null;

    /// <summary>Figures of one database for any loss; null while none have been made, or when no plan covers it.</summary>
    public DesignedFigures? KnownOf(Id<Database> database, Loss loss)
    {
        if (Known is { } answer && kept is { } k)
        {
            return answer.Subjects.TryGetValue(database, out var subject) ? Of(subject, answer.ByDatabase[database], k.Supposed, answer.From) : null;
        }

        return Beginning is { } w && w.Made.TryGetValue(database, out var made) ? Of(made.Subject, made.Figures, w.Supposed, w.From) : null;

        DesignedFigures Of(RecoverySubject subject, IReadOnlyList<DesignedFigures> figures, ConcurrentDictionary<(Id<Database>, Loss), DesignedFigures> supposed, Instant from)
        {
            var resolved = loss.For(subject.Database, subject.Fleet);
            return figures.FirstOrDefault(f => f.Loss == resolved)
                ?? supposed.GetOrAdd((database, resolved), _ => Survival.Of(subject, resolved) is { } left && figures.FirstOrDefault(f => Survival.Of(subject, f.Loss) == left) is { } same
                    ? same with { Loss = resolved }
                    : Designer.FiguresOf(subject, resolved, from, from + Designer.Span));
        }
    }

    /// <summary>How far the figures have come that are being made for the first time, or after plans changed; null when they are all there.</summary>
    public DesignProgress? Making
    {
        get
        {
            if (Known is not null)
            {
                return null;
            }

            var w = Beginning;
            var of = w?.Of ?? fleet.Fleet.Databases.Count(d => fleet.Fleet.PlansOf(d).Count > 0);
            return of == 0 ? null : new DesignProgress(w?.Made.Count ?? 0, of);
        }
    }

    private InWork? Beginning => inWork is { } w && ReferenceEquals(w.Fleet.Plans, fleet.Fleet.Plans) ? w : null;

    /// <summary>What counts of them for a verdict; null while none have been made, or when no plan covers the database.</summary>
    public DesignedOutlook? OutlookOf(Id<Database> database, Loss loss) => KnownOf(database, loss) is { } f
        ? new DesignedOutlook(f.Window.SecondsUnprotected > 0 ? null : f.Window.WorstExposureSeconds, f.LongestRestore?.ServiceSeconds)
        : null;

    /// <summary>When what the plans of a database do was changed last.</summary>
    public Instant? PlanChanged(Database database) => fleet.PlanChanged(database);

    /// <summary>The figures as they are, and has them made when they are not there or too old; who lists a fleet need not wait for them.</summary>
    public DesignAnswer? KnownOrBegin(Instant at)
    {
        if (Known is null || at - Known.From > MaxAge)
        {
            _ = Task.Run(() => GetAsync(at, CancellationToken.None));
        }

        return Known;
    }

    /// <summary>The figures, made when they are not there or too old.</summary>
    public async Task<DesignAnswer> GetAsync(Instant at, CancellationToken cancel)
    {
        if (Known is { } known && at - known.From < MaxAge && at >= known.From)
        {
            return known;
        }

        await making.WaitAsync(cancel);
        try
        {
            if (Known is { } meanwhile && at - meanwhile.From < MaxAge && at >= meanwhile.From)
            {
                return meanwhile;
            }

            var f = fleet.Fleet;
            Database[] planned = [.. f.Databases.Where(d => f.PlansOf(d).Count > 0)];
            var work = new InWork(f, at, planned.Length);
            inWork = work;
            var loads = f.Databases.ToDictionary(d => d.Id, d => Learn(f, d, at));
            if (planned.Length > Many)
            {
                // Of a large fleet nobody waits minutes for the first figure: some come at once, by the same simulation without the log of the others.
                await Task.Run(() => Design([.. planned.Take(First)]), cancel);
            }

            var answer = await Task.Run(() => Design(planned), cancel);
            kept = new Snapshot(f, answer, loads, StoreForecast.Of(f, id => fleet[id].Subject.Catalogue, at));
            return answer;

            DesignAnswer Design(IReadOnlyList<Database> databases) => Designer.Design(new DesignQuestion
            {
                Fleet = f,
                Series = Series.Of(f),
                Databases = databases,
                From = at,
                LoadOf = d => loads[d.Id],
                Threads = Math.Max(1, Environment.ProcessorCount - 1),
                Made = (subject, figures) => work.Made[subject.Database.Id] = (subject, figures),
            });
        }
        finally
        {
            inWork = null;
            making.Release();
        }
    }

    /// <summary>How full a store will be; null while that is not known.</summary>
    public StoreForecast? Forecast(Id<Store> store) => kept?.Stores.GetValueOrDefault(store);

    /// <summary>What plans will do to one database.</summary>
    public IReadOnlyList<Finding> Findings(Database database, Instant at) => fleet.Fleet.Plans.Count == 0
        ? []
        :
        [
            .. PlanFindings.Silence(fleet.Fleet, database, fleet[database.Id].Subject.Catalogue, at),
            .. PlanFindings.Of(fleet.Fleet, database, Known?.ByDatabase.GetValueOrDefault(database.Id), Known is null ? [] : [.. kept!.ClashesOf[database.Id.Value], .. FullStores], fleet[database.Id].Proof, at),
        ];

    /// <summary>Stores that will be full, as clashes.</summary>
    public IReadOnlyList<Clash> FullStores => kept?.FullStores ?? [];
}
