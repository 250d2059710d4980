using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Fleet;

/// <summary>The fleet as a list with all figures, and what needs somebody.</summary>
internal static class FleetEndpoints
{
    private const int MostRows = 20_000;

    private const int MostGroups = 500;

    public sealed record LossMark(string Loss, Verdict Verdict, string? Reason);

    public sealed record CoverSpan(Instant From, Instant To);

    public sealed record FleetRow(
        string Id,
        string Name,
        string? Service,
        string Engine,
        string Host,
        string Site,
        long SizeBytes,
        string? Objective,
        double? RpoSeconds,
        double? RtoSeconds,
        Verdict Verdict,
        IReadOnlyList<string> Reasons,
        IReadOnlyList<LossMark> Losses,
        string SupposedLoss,
        Verdict Supposed,
        string? SupposedReason,
        double? CouldLoseSeconds,
        double? WorstSeconds,
        double? BackInSeconds,
        string? TakenOverBy,
        double? DesignedWorstSeconds,
        double? DesignedBackInSeconds,
        bool DesignedLosesAll,
        IReadOnlyList<string> Plans,
        string? NoPath,
        Instant? ProofAt,
        bool ProofCounts,
        double? ProofLostSeconds,
        double? ProofServiceSeconds,
        IReadOnlyList<CoverSpan> Cover);

    public sealed record FleetPage(Instant At, Instant CoverFrom, FleetAnswer Answer, IReadOnlyList<FleetRow> Rows, int Total, int? Next, DesignedState.DesignProgress? Designing);

    /// <summary>Findings of one cause and one remedy: the worst of them, how many databases, and the span of instants they are about.</summary>
    public sealed record FindingRow(
        string Key, string Code, string Database, string DatabaseName, int Databases, Urgency Urgency, string What, string Why, string Remedy, double? WorstSeconds, Instant? From, Instant? To);

    /// <summary>What is kept and could not be read: it is left out of everything until somebody mends it.</summary>
    public sealed record LeftOutView(string Kind, string Id, string Why);

    public sealed record FindingPage(IReadOnlyList<FindingRow> Rows, IReadOnlyList<int> ByUrgency, int Total, int? Next, IReadOnlyList<LeftOutView> LeftOut);

    public sealed record Place(string Kind, string Id, string Name, string? Site = null);

    public sealed record Places(IReadOnlyList<Place> Things, IReadOnlyList<string> TimeZones);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/fleet", GetFleet).Needs(Roles.Look).Computes().WithName("Fleet");
        app.MapGet("/api/findings", GetFindings).Needs(Roles.Look).Computes().WithName("Findings");
        app.MapGet("/api/findings/databases", GetFindingDatabases).Needs(Roles.Look).Computes().WithName("FindingDatabases");
        app.MapGet("/api/places", GetPlaces).Needs(Roles.Look).WithName("Places");
    }

    private static Ok<FleetPage> GetFleet(FleetState state, DesignedState designed, ProductClock clock, string? loss, string? at, string? find, int? from, int? take, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var premise = Premise.Read(loss, at, state.Fleet, now);
        if (from < 0 || take is < 1 or > MostRows)
        {
            throw new BadInputException(from < 0 ? "from" : "take", from < 0 ? "must be at least 0" : $"must be between 1 and {MostRows}");
        }

        var asOf = premise.At ?? clock.ToldTo;
        var databases = state.Fleet.Databases;
        var figures = new LossFigures[databases.Count];
        var parallel = new ParallelOptions { MaxDegreeOfParallelism = Environment.ProcessorCount, CancellationToken = cancel };
        Parallel.For(0, figures.Length, parallel, i => figures[i] = state[databases[i].Id].Observe(premise.Loss, asOf, premise.At is null).Figures);
        var answer = FleetAnswer.Empty;
        for (var i = 0; i < figures.Length; i++)
        {
            answer = answer.With(state.Fleet.ObjectiveOf(databases[i]), figures[i], asOf);
        }

        // The whole fleet is summed, but only what is asked for is judged and written out.
        var found = string.IsNullOrWhiteSpace(find) ? databases : [.. databases.Where(d => Matches(state.Fleet, d, find.Trim()))];
        var start = Math.Min(from ?? 0, found.Count);
        var rows = new FleetRow[Math.Min(take ?? MostRows, found.Count - start)];
        Parallel.For(0, rows.Length, parallel, i => rows[i] = Row(state[found[start + i].Id], designed, premise.Loss, asOf, premise.At is null));

        // What plans will come to takes longest: it may begin when what is here has been answered.
        designed.KnownOrBegin(now);
        return TypedResults.Ok(new FleetPage(
            asOf, asOf - DatabaseState.Window, answer, rows, found.Count, start + rows.Length < found.Count ? start + rows.Length : null, designed.Making));
    }

    private static bool Matches(FleetModel fleet, Core.Fleet.Database d, string find) =>
        d.Id.Value.Contains(find, StringComparison.OrdinalIgnoreCase) || d.Name.Contains(find, StringComparison.OrdinalIgnoreCase)
        || d.Host.Value.Contains(find, StringComparison.OrdinalIgnoreCase)
        || (d.Service is { } service && fleet.Services[service].Name.Contains(find, StringComparison.OrdinalIgnoreCase));

    private static FleetRow Row(DatabaseState db, DesignedState plans, Loss loss, Instant at, bool now)
    {
        var s = db.Subject;
        var d = s.Database;
        var (overall, each) = db.Judge(at, now, plans);
        var (figures, recoverable) = db.Observe(loss, at, now);
        var supposed = db.Judge(figures, at, now, plans);
        var standing = db.Standing(figures.Loss.Kind, at, plans);
        var proof = standing is null ? db.Proofs.At(at).Newest : standing.Proof;
        var from = at - DatabaseState.Window;
        var designed = plans.KnownOf(d.Id, loss);
        return new FleetRow(
            d.Id.Value,
            d.Name,
            d.Service is { } service ? s.Fleet.Services[service].Name : null,
            s.Fleet.Engines[d.Engine].Name,
            d.Host.Value,
            s.Fleet.Sites[s.Fleet.Hosts[d.Host].Site].Name,
            d.SizeBytes,
            s.Objective?.Name,
            s.Objective?.RpoSeconds,
            s.Objective?.RtoSeconds,
            overall.Verdict,
            overall.Reasons,
            [.. each.Select(e => new LossMark(e.Kind.ToString().ToLowerInvariant(), e.Judgement.Verdict, e.Judgement.Reasons.FirstOrDefault()))],
            figures.Loss.ToString(),
            supposed.Verdict,
            supposed.Reasons.FirstOrDefault(),
            figures.ExposureSeconds(at),
            figures.Window.WorstExposureSeconds,
            figures.Path?.ServiceSeconds,
            (figures.Path as Core.Replication.TakeOver)?.Replica.Value,
            designed is { Window.SecondsUnprotected: 0 } ? designed.Window.WorstExposureSeconds : null,
            designed?.LongestRestore?.ServiceSeconds,
            designed is { Window.SecondsUnprotected: > 0 },
            [.. s.Fleet.PlansOf(d).Select(p => p.Name)],
            figures.NoPath,
            proof?.At,
            standing is { WhyNot: null },
            proof?.LostSeconds,
            proof?.ServiceSeconds,
            [.. recoverable.Where(i => i.To >= from).Select(i => new CoverSpan(Instant.Max(i.From, from), i.To))]);
    }

    private static Ok<FindingPage> GetFindings(FleetState state, FindingsState findings, ProductClock clock, string? database, int? from, int? take, CancellationToken cancel)
    {
        if (from < 0 || take is < 1 or > MostGroups)
        {
            throw new BadInputException(from < 0 ? "from" : "take", from < 0 ? "must be at least 0" : $"must be between 1 and {MostGroups}");
        }

        var now = clock.ToldTo;
        var groups = database is null ? findings.Groups(now, cancel) : FindingGroup.Of(findings.Of(state[database].Subject.Database, now));
        var start = Math.Min(from ?? 0, groups.Count);
        var rows = groups.Skip(start).Take(take ?? 50).Select(g => new FindingRow(
            g.Key,
            g.Worst.Code,
            g.Worst.Database.Value,
            state.Fleet.DatabaseById.TryGetValue(g.Worst.Database, out var d) ? d.Name : g.Worst.Database.Value,
            g.Databases.Count,
            g.Worst.Urgency,
            g.Worst.What,
            g.Worst.Why,
            g.Worst.Remedy,
            g.Worst.Seconds,
            g.From,
            g.To)).ToArray();
        return TypedResults.Ok(new FindingPage(
            rows,
            [.. Enum.GetValues<Urgency>().OrderDescending().Select(u => groups.Count(g => g.Worst.Urgency == u))],
            groups.Count,
            start + rows.Length < groups.Count ? start + rows.Length : null,
            database is null ? [.. state.LeftOut.Select(l => new LeftOutView(l.Kind, l.Id, l.Why))] : []));
    }

    /// <summary>The databases a group of findings is about, so that they can be looked at and acted on together.</summary>
    private static Ok<IReadOnlyList<string>> GetFindingDatabases(FindingsState findings, ProductClock clock, string key, CancellationToken cancel) =>
        TypedResults.Ok<IReadOnlyList<string>>([.. findings.Groups(clock.ToldTo, cancel).FirstOrDefault(g => g.Key == key)?.Databases.Select(d => d.Value) ?? []]);

    private static Ok<Places> GetPlaces(FleetState state)
    {
        var f = state.Fleet;
        return TypedResults.Ok(new Places(
            [
                .. f.SiteList.Select(s => new Place("site", s.Id.Value, s.Name)),
                .. f.ArrayList.Select(a => new Place("array", a.Id.Value, a.Id.Value, a.Site.Value)),
                .. f.HostList.Select(h => new Place("host", h.Id.Value, h.Id.Value, h.Site.Value)),
                .. f.StoreList.Select(s => new Place("store", s.Id.Value, s.Id.Value)),
                .. f.GroupList.Select(g => new Place("group", g.Id.Value, g.Name)),
                .. f.EngineList.Select(e => new Place("engine", e.Id.Value, e.Name)),
                .. f.ObjectiveList.Select(o => new Place("objective", o.Id.Value, o.Name)),
                .. f.ServiceList.Select(s => new Place("service", s.Id.Value, s.Name)),
            ],
            [.. f.SiteList.Select(s => s.TimeZone).Distinct()]));
    }
}
