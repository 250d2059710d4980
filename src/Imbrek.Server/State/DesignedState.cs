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

    private readonly Turns making = new();
    private volatile Snapshot? kept;
    private volatile Table? inWork;

    /// <summary>How many databases have figures so far, of how many.</summary>
    public sealed record DesignProgress(int Made, int Of);

    /// <summary>The figures of each database, as far as they have been made.</summary>
    private sealed class Table(FleetModel fleet, Instant from, int of)
    {
        private readonly ConcurrentDictionary<Id<Database>, (RecoverySubject Subject, IReadOnlyList<DesignedFigures> Figures)> made = new();

        /// <summary>Figures for losses that objectives do not name, made when somebody supposes them.</summary>
        private readonly ConcurrentDictionary<(Id<Database>, Loss), DesignedFigures> supposed = new();

        /// <summary>The fleet with the plans they are of.</summary>
        public FleetModel Fleet => fleet;

        public DesignProgress Progress => new(made.Count, of);

        public void Add(RecoverySubject subject, IReadOnlyList<DesignedFigures> figures) => made[subject.Database.Id] = (subject, figures);

        public DesignedFigures? Of(Id<Database> database, Loss loss)
        {
            if (!made.TryGetValue(database, out var m))
            {
                return null;
            }

            var resolved = loss.For(m.Subject.Database, m.Subject.Fleet);
            return m.Figures.FirstOrDefault(f => f.Loss == resolved)
                ?? supposed.GetOrAdd((database, resolved), _ => Designer.FiguresOf(m.Subject, resolved, from, from + Designer.Span, m.Figures));
        }
    }

    private sealed record Snapshot(Table Table, DesignAnswer Answer, Dictionary<Id<Database>, DatabaseLoad> Loads, IReadOnlyDictionary<Id<Store>, StoreForecast> Stores)
    {
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
    public DesignAnswer? Known => kept is { } k && IsOfNow(k.Table) ? k.Answer : null;

    /// <summary>Figures of one database for any loss; null while none have been made, or when no plan covers it.</summary>
    public DesignedFigures? KnownOf(Id<Database> database, Loss loss) => Newest?.Of(database, loss);

    /// <summary>The figures of the plans as they are: all of them, or those made so far.</summary>
    private Table? Newest => kept is { } k && IsOfNow(k.Table) ? k.Table : inWork is { } w && IsOfNow(w) ? w : null;

    private bool IsOfNow(Table table) => ReferenceEquals(table.Fleet.Plans, fleet.Fleet.Plans);

    /// <summary>How far the figures have come that are being made for the first time, or after plans changed; null when they are all there.</summary>
    public DesignProgress? Making
    {
        get
        {
            if (Known is not null)
            {
                return null;
            }

            var progress = Newest?.Progress ?? new DesignProgress(0, Planned(fleet.Fleet).Length);
            return progress.Of == 0 ? null : progress;
        }
    }

    private static Database[] Planned(FleetModel f) => [.. f.Databases.Where(d => f.PlansOf(d).Count > 0)];

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

        using var mine = await making.TakeAsync(cancel);
        try
        {
            if (Known is { } meanwhile && at - meanwhile.From < MaxAge && at >= meanwhile.From)
            {
                return meanwhile;
            }

            var f = fleet.Fleet;
            var planned = Planned(f);
            var table = new Table(f, at, planned.Length);
            inWork = table;
            var loads = f.Databases.ToDictionary(d => d.Id, d => Learn(f, d, at));
            if (planned.Length > Many)
            {
                // Of a large fleet nobody waits minutes for the first figure: some come at once, by the same simulation without the log of the others.
                await Task.Run(() => Design([.. planned.Take(First)]), cancel);
            }

            var answer = await Task.Run(() => Design(planned), cancel);
            kept = new Snapshot(table, answer, loads, StoreForecast.Of(f, id => fleet[id].Subject.Catalogue, at));
            return answer;

            DesignAnswer Design(IReadOnlyList<Database> databases) => Designer.Design(new DesignQuestion
            {
                Fleet = f,
                Series = Series.Of(f),
                Databases = databases,
                From = at,
                LoadOf = d => loads[d.Id],
                Threads = Math.Max(1, Environment.ProcessorCount - 1),
                Made = table.Add,
            });
        }
        finally
        {
            inWork = null;
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
            .. PlanFindings.Of(fleet.Fleet, database, Known?.ByDatabase.GetValueOrDefault(database.Id), Known is null ? [] : [.. kept!.ClashesOf[database.Id.Value], .. FullStores], fleet[database.Id].Proofs, at),
        ];

    /// <summary>Stores that will be full, as clashes.</summary>
    public IReadOnlyList<Clash> FullStores => kept?.FullStores ?? [];
}
