using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Mvc;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Database;

/// <summary>One database: its figures, its cover, its sets, its marks.</summary>
internal static class DatabaseEndpoints
{
    /// <summary>Teeth of the exposure curve that are closer than this many pixels are drawn as a band, of columns that hold two of them.</summary>
    private const int PixelsATooth = 6;

    private const int LeastColumns = 50;
    private static readonly Duration LongestCover = Duration.FromDays(366);

    public sealed record LossView(
        string Kind,
        string Loss,
        Verdict Verdict,
        IReadOnlyList<string> Reasons,
        double? CouldLoseSeconds,
        Instant? Latest,
        double? WorstSeconds,
        Instant? WorstAt,
        double? SecondsOverRpo,
        double SecondsUnprotected,
        double? BackInSeconds,
        double? CautiousSeconds,
        bool Learned,
        string? Host,
        string? TakenOverBy,
        string? NoPath,
        StandingView? Proof);

    /// <summary>How it stands proven against a loss.</summary>
    /// <param name="At">When the proof that counts, or the one that comes nearest, was made; null when there is none.</param>
    /// <param name="WhyNot">Why none counts; null when one does.</param>
    /// <param name="DueAt">By when it must be proved again.</param>
    public sealed record StandingView(Instant? At, bool? TookOver, double? LostSeconds, double? ServiceSeconds, string? WhyNot, Instant DueAt);

    public sealed record ProofView(Instant At, double LostSeconds, double ServiceSeconds, bool Passed, string Loss, string Host, bool TookOver, Guid? RunId, long LedgerNumber);

    public sealed record MarkView(string Kind, string Title, Instant At);

    public sealed record HappeningView(Instant At, string Kind, string Text);

    public sealed record ObjectiveView(string Name, double RpoSeconds, double RtoSeconds, IReadOnlyList<string> Against, double ProofDays);

    public sealed record DatabaseView(
        string Id,
        string Name,
        string? Service,
        string? Owner,
        string Engine,
        string Host,
        string? Array,
        string Site,
        string TimeZone,
        IReadOnlyList<string> RecoveryHosts,
        long SizeBytes,
        string LogMode,
        string? Version,
        ObjectiveView? Objective,
        Instant At,
        Verdict Verdict,
        IReadOnlyList<string> Reasons,
        LossView Supposed,
        IReadOnlyList<LossView> Losses,
        IReadOnlyList<ProofView> Proofs,
        IReadOnlyList<MarkView> Marks,
        IReadOnlyList<HappeningView> Happenings,
        int Sets,
        IReadOnlyList<Core.Fleet.InstancePart> Holds,
        IReadOnlyList<NamedDatabase> Before,
        IReadOnlyList<NamedDatabase> Needing);

    /// <summary>A database by its name.</summary>
    public sealed record NamedDatabase(string Id, string Name);

    public sealed record TileView(SetKind Kind, string Store, Instant From, Instant To, int Sets, string? Set, bool Damaged, bool Locked, bool Removed, bool Lost);

    public sealed record SpanView(Instant From, Instant To);

    public sealed record GapView(Instant From, Instant To, bool AtEnd, bool BeforeFirst, IReadOnlyList<string> Reasons);

    /// <summary>A straight piece of the exposure curve; without seconds where nothing can be restored.</summary>
    public sealed record ExposureStepView(Instant At, Instant To, double? FromSeconds, double? ToSeconds);

    public sealed record ColumnView(Instant At, double? Worst, double? Least, bool Unprotected);

    public sealed record CoverView(
        Instant At,
        Instant From,
        Instant To,
        double? RpoSeconds,
        IReadOnlyList<TileView> Tiles,
        IReadOnlyList<SpanView> Recoverable,
        IReadOnlyList<GapView> Gaps,
        IReadOnlyList<ExposureStepView> Steps,
        IReadOnlyList<ColumnView> Columns,
        IReadOnlyList<FollowedView> Replicas,
        IReadOnlyList<MarkView> Marks);

    /// <summary>When a replica followed; between two spans it was cut off. The last one ends at what it has received.</summary>
    /// <param name="WhyNot">Why nothing can be had of it after the loss supposed; null when something can.</param>
    public sealed record FollowedView(string Replica, IReadOnlyList<SpanView> Spans, Instant? ReceivedTo, string? WhyNot);

    public sealed record CopyView(string Store, Instant AvailableAt, Instant? RemovedAt, Instant? LockedUntil, long StoredBytes, CopyState State);

    public sealed record SetView(
        string Id, SetKind Kind, int Branch, string? Parent, long? FromPosition, long ToPosition, Instant? CoversFrom, Instant CoversTo, Instant FinishedAt, long DataBytes, string? Key, IReadOnlyList<CopyView> Copies);

    public sealed record SetPage(IReadOnlyList<SetView> Sets, string? Next);

    public sealed record ChainView(SetView Set, IReadOnlyList<string> Needs, int NeededBy, string? Unusable);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/databases/{id}", GetAsync).Needs(Roles.Look).Computes().WithName("Database");
        DatabasePlanEndpoint.Map(app);
        app.MapGet("/api/databases/{id}/cover", CoverAsync).Needs(Roles.Look).Computes().WithName("Cover");
        app.MapGet("/api/databases/{id}/sets", GetSets).Needs(Roles.Look).WithName("Sets");
        app.MapGet("/api/databases/{id}/sets/{set}", GetChain).Needs(Roles.Look).Computes().WithName("Chain");
    }

    private static async Task<Ok<DatabaseView>> GetAsync(string id, FleetState state, DesignedState designed, ImbrekContext data, ProductClock clock, string? loss, string? at, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var premise = Premise.Read(loss, at, state.Fleet, now);
        var asOf = premise.At ?? clock.ToldTo;
        var db = state[id];
        var s = db.Subject;
        var d = s.Database;
        var host = s.Fleet.Hosts[d.Host];
        var (overall, each) = db.Judge(asOf, premise.At is null, designed);
        var supposed = db.Observe(premise.Loss, asOf, premise.At is null).Figures;
        var proofs = await data.Proofs.AsNoTracking().Where(p => p.Database == id && p.At <= asOf).OrderByDescending(p => p.At).Take(20).ToListAsync(cancel);
        var happenings = await data.Happenings.AsNoTracking().Where(h => h.Database == id && h.At <= asOf).OrderByDescending(h => h.At).Take(20).ToListAsync(cancel);
        var service = d.Service is { } sid ? s.Fleet.Services[sid] : null;
        return TypedResults.Ok(new DatabaseView(
            d.Id.Value,
            d.Name,
            service?.Name,
            service?.Owner,
            s.Fleet.Engines[d.Engine].Name,
            host.Id.Value,
            host.Array?.Value,
            s.Fleet.Sites[host.Site].Name,
            s.Fleet.Sites[host.Site].TimeZone,
            [.. d.RecoveryHosts.Select(h => h.Value)],
            d.SizeBytes,
            d.LogMode.ToString().ToLowerInvariant(),
            d.Version,
            s.Objective is { } o ? new ObjectiveView(o.Name, o.RpoSeconds, o.RtoSeconds, [.. o.Against.Select(Word)], o.ProofDays) : null,
            asOf,
            overall.Verdict,
            overall.Reasons,
            View(Word(premise.Loss.Kind), db.Judge(supposed, asOf, premise.At is null, designed), supposed, asOf, db.Standing(supposed.Loss.Kind, asOf, designed)),
            [.. each.Select(e => View(Word(e.Kind), e.Judgement, e.Figures, asOf, db.Standing(e.Kind, asOf, designed)))],
            [.. proofs.Select(p => new ProofView(p.At, p.LostSeconds, p.ServiceSeconds, p.Passed, p.Loss, p.Host, p.TookOver, p.RunId, p.LedgerNumber))],
            await MarksAsync(data, id, Instant.FromUnixTimeSeconds(0), asOf, cancel),
            [.. happenings.Select(h => new HappeningView(h.At, h.Kind, h.Text))],
            s.Catalogue.Count,
            d.Holds,
            [.. s.Fleet.Before(d).Select(Named)],
            [.. s.Fleet.Needing(d).Select(Named)]));

        static NamedDatabase Named(Core.Fleet.Database other) => new(other.Id.Value, other.Name);
    }

    private static LossView View(string kind, Judgement j, LossFigures f, Instant at, ProofStanding? proof) => new(
        kind,
        f.Loss.ToString(),
        j.Verdict,
        j.Reasons,
        f.ExposureSeconds(at),
        f.Latest,
        f.Window.WorstExposureSeconds,
        f.Window.WorstAt,
        f.Window.SecondsOverRpo,
        f.Window.SecondsUnprotected,
        f.Path?.ServiceSeconds,
        f.CautiousServiceSeconds,
        f.Path?.UsesLearned ?? false,
        f.Path?.Host.Value,
        (f.Path as Core.Replication.TakeOver)?.Replica.Value,
        f.NoPath,
        proof is null ? null : new(proof.Proof?.At, proof.Proof?.TookOver, proof.Proof?.LostSeconds, proof.Proof?.ServiceSeconds, proof.WhyNot, proof.DueAt));

    private static string Word(LossKind kind) => kind.ToString().ToLowerInvariant();

    private static async Task<IReadOnlyList<MarkView>> MarksAsync(ImbrekContext data, string id, Instant from, Instant to, CancellationToken cancel)
    {
        var incidents = await data.Incidents.AsNoTracking().Where(i => i.Database == id && i.At >= from && i.At <= to).OrderByDescending(i => i.At).Take(100).ToListAsync(cancel);
        var markers = await data.Markers.AsNoTracking().Where(m => m.Database == id && m.At >= from && m.At <= to).OrderByDescending(m => m.At).Take(100).ToListAsync(cancel);
        return
        [
            .. incidents.Select(i => new MarkView("incident", i.Title, i.At))
                .Concat(markers.Select(m => new MarkView("marker", m.Name, m.At))).OrderByDescending(m => m.At),
        ];
    }

    private static async Task<Ok<CoverView>> CoverAsync(
        string id, FleetState state, ImbrekContext data, ProductClock clock, string? loss, string? at, string? from, string? to, int? width, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var premise = Premise.Read(loss, at, state.Fleet, now);
        var asOf = premise.At ?? clock.ToldTo;
        var s = state[id].Subject;
        var end = Instant.Min(Premise.ReadInstantOrNull("to", to) ?? asOf, asOf);
        var start = Premise.ReadInstantOrNull("from", from) ?? end - DatabaseState.Window;
        var columns = Math.Clamp(width ?? 800, LeastColumns, 4000);
        if (start >= end || end - start > LongestCover)
        {
            throw new BadInputException("from", "must be before the end of the strip, and at most a year before");
        }

        var resolved = premise.Loss.For(s.Database, s.Fleet);
        var pixel = (end - start) / columns;
        var recoverable = Evaluator.RecoverableAt(s, resolved, asOf);
        var curve = Evaluator.Curve(s, resolved, start, end);
        var gaps = CoverExplainer.Gaps(s, resolved, asOf, start).Where(g => g.Span.From <= end).ToArray();
        var few = curve.Count <= columns / PixelsATooth;
        return TypedResults.Ok(new CoverView(
            asOf,
            start,
            end,
            s.Objective?.RpoSeconds,
            [
                .. CoverTile.Lay(s.Catalogue, start, end, asOf, pixel * 4).Select(t => new TileView(
                    t.Kind, t.Store.Value, t.From, t.To, t.Sets, t.Set?.Value, t.Damaged, t.Locked, t.Removed, !resolved.Spares(s.Fleet.Stores[t.Store], s.Fleet))),
            ],
            [.. recoverable.Where(i => i.To >= start && i.From <= end).Select(i => new SpanView(i.From, i.To))],
            [.. gaps.Select(g => new GapView(g.Span.From, g.Span.To, g.AtEnd, g.BeforeFirst, g.Reasons))],
            few ? [.. curve.Select((c, i) => (Step: c, To: i + 1 < curve.Count ? curve[i + 1].At : end)).Select(c => new ExposureStepView(c.Step.At, c.To, c.Step.SecondsAt(c.Step.At), c.Step.SecondsAt(c.To)))] : [],
            few ? [] : [.. ExposureColumn.Fold(curve, start, end, Math.Clamp(curve.Count / 2, LeastColumns, columns)).Select(c => new ColumnView(c.At, c.WorstSeconds, c.LeastSeconds, c.Unprotected))],
            [.. s.Replicas.Where(r => !(r.Replica.Until <= start)).Select(r => Followed(r, resolved, start, end, asOf))],
            await MarksAsync(data, id, start, end, cancel)));
    }

    private static FollowedView Followed(ReplicaSource r, Loss loss, Instant start, Instant end, Instant asOf)
    {
        // An outage is what is longer than three looks, as its watcher has it.
        var spans = r.Lag.Followed(start, end, 3 * Duration.FromSeconds(r.Replica.WatchSeconds));
        var received = r.At(asOf)?.ReceivedTo;
        return new(r.Replica.Id.Value, [.. spans.Select(i => new SpanView(i.From, received is { } to && i.To > to ? Instant.Max(i.From, to) : i.To))], received, r.WhyNotUnder(loss));
    }

    private static Ok<SetPage> GetSets(string id, FleetState state, string? before, [FromQuery(Name = "kind")] string? kindName, int? take)
    {
        var kind = kindName is null ? (SetKind?)null
            : Enum.TryParse<SetKind>(kindName, ignoreCase: true, out var read) && Enum.IsDefined(read) ? read
            : throw new BadInputException("kind", $"'{kindName}' is not one of {string.Join(", ", Enum.GetNames<SetKind>()).ToLowerInvariant()}");
        var c = state[id].Subject.Catalogue;
        var count = Math.Clamp(take ?? 100, 1, 1000);
        var at = before is null ? c.Count : c.IndexOf(new(before));
        if (at < 0)
        {
            throw new BadInputException("before", $"there is no set '{before}'");
        }

        var sets = new List<SetView>();
        for (at--; at >= 0 && sets.Count < count; at--)
        {
            var set = c[at];
            if (kind is null || set.Kind == kind)
            {
                sets.Add(View(set));
            }
        }

        return TypedResults.Ok(new SetPage(sets, at >= 0 && sets.Count > 0 ? sets[^1].Id : null));
    }

    private static Ok<ChainView> GetChain(string id, string set, FleetState state, IClock clock, string? loss, string? at)
    {
        var now = clock.GetCurrentInstant();
        var premise = Premise.Read(loss, at, state.Fleet, now);
        var s = state[id].Subject;
        var index = s.Catalogue.IndexOf(new(set));
        if (index < 0)
        {
            throw new BadInputException("set", $"there is no set '{set}'", 404, "not-found");
        }

        var chain = SetChain.Of(s, premise.Loss, premise.At ?? now, new(set));
        return TypedResults.Ok(new ChainView(View(s.Catalogue[index]), [.. chain.Needs.Select(n => n.Value)], chain.NeededBy, chain.WhyUnusable));
    }

    private static SetView View(BackupSet s) => new(
        s.Id.Value,
        s.Kind,
        s.Branch,
        s.Parent?.Value,
        s.FromPosition,
        s.ToPosition,
        s.CoversFrom,
        s.CoversTo,
        s.FinishedAt,
        s.DataBytes,
        s.Key,
        [.. s.Copies.Select(c => new CopyView(c.Store.Value, c.AvailableAt, c.RemovedAt, c.LockedUntil, c.StoredBytes, c.State))]);
}
