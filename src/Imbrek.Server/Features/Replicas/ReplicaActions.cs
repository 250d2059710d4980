using System.Security.Claims;
using System.Text.Json.Nodes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.HoldReplica;
using Imbrek.Server.Features.Runs.LookAtReplica;
using Imbrek.Server.Features.Runs.MendReplica;
using Imbrek.Server.Features.Runs.RemoveReplica;
using Imbrek.Server.Features.Runs.SetUpReplica;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Replicas;

/// <summary>What can be done with replicas, each with what comes of it before it is begun: every action is a run.</summary>
internal static class ReplicaActions
{
    private static readonly Duration LongestLook = Duration.FromDays(30);

    public sealed record RunBegun(Guid Id);

    /// <summary>What an action can be begun with.</summary>
    /// <param name="Group">Whether all replicas of its group, in the same place, are held or resumed with it.</param>
    public sealed record HoldRequest(bool? Group);

    /// <param name="By">Which way: log, set or anew; null for the fastest.</param>
    public sealed record MendRequest(string? By);

    /// <param name="Host">Where it is opened.</param>
    /// <param name="At">The instant wanted; null for the newest.</param>
    /// <param name="Until">When it ends by itself.</param>
    /// <param name="Query">A query that is asked of it; null for none.</param>
    /// <param name="Overlay">Whether it is recovered and takes writes, which are its own and go with it.</param>
    public sealed record LookAtRequest(string Host, Instant? At, Instant? Until, string? Query, bool? Overlay = null);

    /// <param name="Host">Of a replica on an array: the host it is opened on; null for the first.</param>
    /// <param name="Group">Whether all of its group beside it take over with it, at one instant.</param>
    public sealed record TakeOverRequest(string? Host, bool? Group = null);

    /// <param name="Replica">It as it stands in the fleet file.</param>
    /// <param name="Group">The group its database joins; null to leave that as it is.</param>
    public sealed record SetUpRequest(JsonObject Replica, string? Group);

    /// <summary>What one loss costs now, and would then.</summary>
    public sealed record ChangeView(string Kind, string Loss, double? ExposureSeconds, double? ThenExposureSeconds, double? ServiceSeconds, double? ThenServiceSeconds, double? RpoSeconds, double? RtoSeconds);

    /// <summary>Another replica, and whether it follows when this one takes over.</summary>
    public sealed record OtherView(string Id, bool Follows, string? WhyNot);

    /// <summary>What taking over comes to by the figures.</summary>
    public sealed record TakingOverView(string? WhyNot, string Host, double LostSeconds, double? LostBytes, double? Seconds, double? ServiceSeconds, bool NeedsApproval, IReadOnlyList<string> Hosts, IReadOnlyList<OtherView> Others, string? FirstBase);

    /// <summary>What comes of each action, before it is begun.</summary>
    /// <param name="Cannot">Why what cannot be done with it cannot: hold, mend, look, takeOver, end.</param>
    /// <param name="Together">The replicas of its group in the same place, itself included.</param>
    /// <param name="Without">What the losses would cost without it.</param>
    public sealed record BeforeView(
        IReadOnlyDictionary<string, string> Cannot, IReadOnlyList<string> Together, double? ToleratedOutageSeconds, IReadOnlyList<ChangeView> Without, IReadOnlyList<string> Fed, TakingOverView TakeOver, Instant? OpensFrom, Instant? OpensTo, IReadOnlyList<string> OpensOn);

    /// <summary>What comes of a replica that is not there yet.</summary>
    public sealed record WorksheetView(
        double? ByDesignSeconds,
        double? ReadByDesignSeconds,
        double? WaitMs,
        double? SeedSeconds,
        bool? SeedByBackup,
        double? LinkBytesPerSecond,
        IReadOnlyList<double> LogByHour,
        double? BusiestShare,
        IReadOnlyList<ChangeView> Worth,
        IReadOnlyList<ReplicaFindingView> Findings,
        string? CanAct);

    public sealed record ReplicaFindingView(string Code, string What, string Why, string Remedy);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/replicas/{id}/before", Before).Needs(Roles.Look).Computes().WithName("BeforeReplica");
        app.MapGet("/api/replicas/{id}/positions", PositionsAsync).Needs(Roles.Look).WithName("ReplicaPositions");
        app.MapPost("/api/replicas/worksheet", Worksheet).Needs(Roles.Look).Computes().WithName("ReplicaWorksheet");
        app.MapPost("/api/replicas", SetUpAsync).Needs(Roles.Administer).WithName("SetUpReplica");
        app.MapPost("/api/replicas/{id}/hold", (string id, HoldRequest r, Acting a, ClaimsPrincipal u, CancellationToken c) => HoldAsync(id, true, r, a, u, c)).Needs(Roles.Operate).WithName("HoldReplica");
        app.MapPost("/api/replicas/{id}/resume", (string id, HoldRequest r, Acting a, ClaimsPrincipal u, CancellationToken c) => HoldAsync(id, false, r, a, u, c)).Needs(Roles.Operate).WithName("ResumeReplica");
        app.MapPost("/api/replicas/{id}/mend", MendAsync).Needs(Roles.Operate).WithName("MendReplica");
        app.MapPost("/api/replicas/{id}/remove", RemoveAsync).Needs(Roles.Administer).WithName("RemoveReplica");
        app.MapPost("/api/replicas/{id}/look", LookAsync).Needs(Roles.Operate).WithName("LookAtReplica");
        app.MapPost("/api/replicas/{id}/take-over", TakeOverAsync).Needs(Roles.Operate).WithName("TakeOverByReplica");
    }

    /// <summary>What every action needs.</summary>
    internal sealed class Acting(FleetState fleet, Runs.Drivers drivers, NewRuns begin, IClock clock)
    {
        public FleetState Fleet => fleet;

        public IClock Clock => clock;

        /// <summary>The replica with its database, and the drivers that act on it.</summary>
        /// <exception cref="BadInputException">There is no such replica, or nobody acts on it.</exception>
        public (RecoverySubject Subject, ReplicaSource Source, IDriverFamily Family) Of(string id, ReplicaAct act) =>
            ReplicaEndpoints.Find(fleet, id) is var (s, source) ? (s, source, For(s.Database, act, source.Replica.Id)) : throw NotFound(id);

        public IDriverFamily For(Core.Fleet.Database d, ReplicaAct act, Id<Replica>? replica = null) => WhyNot(d, act, replica) is { } why ? throw new BadInputException("id", why, 409, "no-driver") : drivers.For(d);

        public string? WhyNot(Core.Fleet.Database d, ReplicaAct act, Id<Replica>? replica = null) => drivers.TryFor(d) is not { } family ? $"{Drivers.WhyNone(d)} ({d.Engine}): its replicas are computed and watched, not acted on"
            : !family.Here ? null
            : family.Replicate is { } driver ? driver.WhyNot(act, replica) : $"the drivers of {d.Name} do not act on replicas";

        /// <summary>Why no drill can be held on a database; null when one can, or that cannot be told from here.</summary>
        public string? WhyNoDrill(Core.Fleet.Database d) => drivers.TryFor(d) is { Here: true, Drill: null } ? $"the drivers of {d.Name} change no roles under watch: it can be taken over by a replica, not drilled" : null;

        /// <summary>Whether those of a database's group can stop at one instant.</summary>
        public bool StopsTogether(Core.Fleet.Database d) => fleet.Fleet.GroupOf(d.Id) is { Databases.Count: > 1 } && drivers.TryFor(d) is { Here: true, Replicate.StopsAtInstants: true };

        /// <summary>Why nothing of a database can be restored; null when it can.</summary>
        public string? WhyNoRestore(Core.Fleet.Database d) => drivers.TryFor(d) is null ? Drivers.WhyNone(d) : null;

        /// <summary>Why nothing can be started on a host, for a database; null when it can, or nobody acts on that anyway.</summary>
        public string? WhyNotOn(Core.Fleet.Database d, Id<Core.Fleet.Host> host) => drivers.TryFor(d)?.WhyNotOn(host);

        /// <summary>Keeps a run and has it begun; what it claims nobody else may have.</summary>
        /// <param name="held">The drill with a date that it holds, kept with it; null for none.</param>
        public async Task<Created<RunBegun>> BeginAsync<T>(string kind, Core.Fleet.Database d, IDriverFamily family, T question, Run run, string claim, ClaimsPrincipal user, CancellationToken cancel, DatedDrillRow? held = null)
        {
            var row = NewRuns.Row(kind, d.Id.Value, family.Name, question, run, user.Identity!.Name!, clock.GetCurrentInstant());
            row.Claim = $"replica:{claim}";
            if (held is not null)
            {
                held.RunId = row.Id;
            }

            await begin.BeginAsync(row, cancel);
            return TypedResults.Created($"/api/runs/{row.Id}", new RunBegun(row.Id));
        }
    }

    /// <summary>How long both sides may take to say where they stand.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    private static async Task<Ok<ReplicaPositions>> PositionsAsync(string id, Acting acting, CancellationToken cancel)
    {
        var (_, source, family) = acting.Of(id, ReplicaAct.Look);
        var (positions, why) = await Runs.DriverAnswer.WithinAsync(Patience, c => family.Replicate!.PositionsAsync(source.Replica.Id, c), cancel);
        return TypedResults.Ok(positions ?? throw new BadInputException("id", why!, 409, "not-reached"));
    }

    internal static BadInputException NotFound(string id, string member = "id") => new(member, $"there is no replica '{InputBounds.Quote(id)}'", 404, "not-found");

    private static Task<Created<RunBegun>> HoldAsync(string id, bool hold, HoldRequest request, Acting acting, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (s, source, family) = acting.Of(id, ReplicaAct.Hold);
        IReadOnlyList<Replica> together = request.Group == true ? source.Replica.TogetherIn(s.Fleet, acting.Clock.GetCurrentInstant()) : [source.Replica];
        return acting.BeginAsync(hold ? HoldReplicaKind.Hold : HoldReplicaKind.Resume, s.Database, family, new ReplicaKind.About(id), HoldReplicaKind.Plan(hold, together), id, user, cancel);
    }

    private static Task<Created<RunBegun>> MendAsync(string id, MendRequest request, Acting acting, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (s, source, family) = acting.Of(id, ReplicaAct.Mend);
        var ways = Mending.Of(s, source, acting.Clock.GetCurrentInstant());
        var way = request.By is null ? ways[0] : ways.FirstOrDefault(w => w.By.ToString().Equals(request.By, StringComparison.OrdinalIgnoreCase)) ?? throw new BadInputException("by", "must be one of log, set, anew");
        if (way.Seconds is null)
        {
            throw new BadInputException("by", $"that is not possible: {way.WhyNot}", 409, "not-possible");
        }

        var (asked, run) = MendReplicaKind.Plan(s, source.Replica, way);
        return acting.BeginAsync(MendReplicaKind.KindName, s.Database, family, asked, run, id, user, cancel);
    }

    private static Task<Created<RunBegun>> RemoveAsync(string id, Acting acting, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (s, source, family) = acting.Of(id, ReplicaAct.End);
        return acting.BeginAsync(RemoveReplicaKind.KindName, s.Database, family, new ReplicaKind.About(id), RemoveReplicaKind.Plan(s, source.Replica, acting.Clock.GetCurrentInstant()), id, user, cancel);
    }

    private static Task<Created<RunBegun>> LookAsync(string id, LookAtRequest request, Acting acting, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (s, source, family) = acting.Of(id, ReplicaAct.Look);
        var now = acting.Clock.GetCurrentInstant();
        if (!s.Fleet.Hosts.ContainsKey(new(request.Host ?? "")))
        {
            throw new BadInputException("host", $"there is no host '{InputBounds.Quote(request.Host ?? "")}'");
        }

        if (acting.WhyNotOn(s.Database, new(request.Host!)) is { } not)
        {
            throw new BadInputException("host", not, 409, "no-driver");
        }

        if (source.Replica.Place is ReplicaPlace.OnArray a && !a.OpensOn.Contains(new(request.Host!)))
        {
            throw new BadInputException("host", $"a snapshot of array {a.Array} is opened on {string.Join(", ", a.OpensOn)}");
        }

        var until = request.Until ?? now + Duration.FromHours(4);
        if (until <= now || until > now + LongestLook)
        {
            throw new BadInputException("until", $"must lie between now and {LongestLook.Days} days from now");
        }

        if (source.At(now) is not { } known || request.At > known.ReceivedTo)
        {
            throw new BadInputException("at", "it has not received that yet");
        }

        if (request.Query?.Length > 2000)
        {
            throw new BadInputException("query", "is at most 2000 letters");
        }

        var asked = new LookAtReplicaKind.Question(id, request.Host!, $"look-{id}-{now.ToUnixTimeSeconds() % 100_000:00000}", request.At, Instant.FromUnixTimeMilliseconds(until.ToUnixTimeMilliseconds()), string.IsNullOrWhiteSpace(request.Query) ? null : request.Query, request.Overlay == true);
        return acting.BeginAsync(LookAtReplicaKind.KindName, s.Database, family, asked, LookAtReplicaKind.Plan(asked), $"{id}:look:{asked.Instance}", user, cancel);
    }

    private static Task<Created<RunBegun>> TakeOverAsync(string id, TakeOverRequest request, Acting acting, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (s, source, family) = acting.Of(id, ReplicaAct.TakeOver);
        var now = acting.Clock.GetCurrentInstant();
        var members = (request.Group == true ? Together(s, source.Replica, now) : [source.Replica]).Select(r =>
        {
            var (subject, one, _) = acting.Of(r.Id.Value, ReplicaAct.TakeOver);
            var promoting = Promoting.Of(subject, one, now);
            return promoting.WhyNot is { } why
                ? throw new BadInputException("id", $"{(r.Id == source.Replica.Id ? "it" : r.Id)} cannot take over: {why}", 409, "not-possible")
                : (Subject: subject, Replica: r, Promoting: promoting);
        }).ToArray();
        var hosts = source.Replica.Place.Hosts;
        var host = request.Host is null ? hosts[0] : new(request.Host);
        if (members.Any(m => !m.Replica.Place.Hosts.Contains(request.Host is null ? m.Replica.Place.Hosts[0] : host)))
        {
            throw new BadInputException("host", $"must be one of {string.Join(", ", hosts)}");
        }

        (TakeOverKind.Member, Promoting)[] asked = [.. members.Select(m => (
            new TakeOverKind.Member(
                m.Replica.Id.Value, m.Subject.Database.Id.Value, (request.Host is null ? m.Replica.Place.Hosts[0] : host).Value, m.Subject.Database.Host.Value, m.Promoting.LostSeconds, (long?)m.Promoting.LostBytes),
            m.Promoting))];
        return acting.BeginAsync(TakeOverKind.KindName, s.Database, family, new TakeOverKind.Question(id, [.. asked.Select(a => a.Item1)]), TakeOverKind.Plan(asked), TakeOverKind.ClaimOf(s.Fleet, s.Database.Id), user, cancel);
    }

    /// <summary>A replica and those of its group beside it, one of each database, itself for its own.</summary>
    private static IReadOnlyList<Replica> Together(RecoverySubject s, Replica replica, Instant at) =>
        [.. replica.TogetherIn(s.Fleet, at).Where(r => r.TakesOver != TakesOver.Never).GroupBy(r => r.Database).Select(g => g.Key == replica.Database ? replica : g.MinBy(r => (r.Place != replica.Place, r.Priority))!)];

    private static Task<Created<RunBegun>> SetUpAsync(SetUpRequest request, Acting acting, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (subject, replica) = Read(request, acting);
        var family = acting.For(subject.Database, ReplicaAct.SetUp);
        if (acting.Fleet.Fleet.Replicas.ContainsKey(replica.Id))
        {
            throw new BadInputException("id", $"there is a replica '{replica.Id}' already", 409, "taken");
        }

        if (replica.Place is ReplicaPlace.OnHost { Host: var host } && acting.WhyNotOn(subject.Database, host) is { } not)
        {
            throw new BadInputException("host", not, 409, "no-driver");
        }

        if (Seeding.Fastest(subject, replica, acting.Clock.GetCurrentInstant(), out var why) is not { } way)
        {
            throw new BadInputException("replica", $"it cannot be seeded: {why}", 409, "not-possible");
        }

        var (asked, run) = SetUpReplicaKind.Plan(subject, replica, request.Replica, request.Group, way);
        return acting.BeginAsync(SetUpReplicaKind.KindName, subject.Database, family, asked, run, replica.Id.Value, user, cancel);
    }

    private static Ok<WorksheetView> Worksheet(SetUpRequest request, Acting acting)
    {
        var (subject, replica) = Read(request, acting);
        var now = acting.Clock.GetCurrentInstant();
        var flow = LogFlow.Of(subject.Database);
        var link = replica.LinkIn(subject.Fleet, out var apart);
        var seed = Seeding.Fastest(subject, replica, now);

        // What it would be worth with the lag it has by design.
        var week = ByDesign.Lag(subject.Fleet, subject.Database, now - DatabaseState.Window, now).Where(l => l.Replica == replica.Id).SelectMany(l => l.Stretches).ToArray();
        var then = week.Length == 0 ? subject : subject.With(week);
        return TypedResults.Ok(new WorksheetView(
            ByDesign.LossSeconds(subject.Fleet, replica),
            ByDesign.ReadSeconds(subject.Fleet, replica),
            ByDesign.WaitMs(subject.Fleet, replica),
            seed?.Seconds,
            seed?.ByBackup,
            apart ? link?.BytesPerSecond ?? 0 : null,
            flow is null ? [] : [.. Enumerable.Range(0, 24).Select(flow.InHour)],
            apart && flow is not null && link is not null ? flow.Busiest / link.BytesPerSecond : null,
            Changes(acting.Fleet[subject.Database.Id].Subject, then, now),
            [.. Core.Findings.FindingRules.Of(then, null, now, DatabaseState.Window).Where(f => f.What.Contains(replica.Id.Value, StringComparison.Ordinal) && f.Code is not ("nobody-watches" or "never-taken-over")).Select(f => new ReplicaFindingView(f.Code, f.What, f.Why, f.Remedy))],
            acting.WhyNot(subject.Database, ReplicaAct.SetUp) ?? (replica.Place is ReplicaPlace.OnHost { Host: var host } ? acting.WhyNotOn(subject.Database, host) : null)));
    }

    private static (RecoverySubject Subject, Replica Replica) Read(SetUpRequest request, Acting acting)
    {
        if (request.Replica?["id"]?.ToString() is not { Length: > 0 } id)
        {
            throw new BadInputException("id", "give it a name");
        }

        var model = ReplicaParts.Put(acting.Fleet.Fleet, id, request.Replica);
        if (request.Group is { } group && !model.Groups.ContainsKey(new(group)))
        {
            throw new BadInputException("group", $"there is no group '{InputBounds.Quote(group)}'");
        }

        var replica = model.Replicas[new(id)];
        return (RecoverySubject.Of(model, model.DatabaseById[replica.Database], acting.Fleet[replica.Database].Subject.Catalogue), replica);
    }

    private static Ok<BeforeView> Before(string id, Acting acting)
    {
        if (ReplicaEndpoints.Find(acting.Fleet, id) is not var (s, source))
        {
            throw NotFound(id);
        }

        var now = acting.Clock.GetCurrentInstant();
        var known = source.At(now);
        var replica = source.Replica;
        return TypedResults.Ok(new BeforeView(
            Enum.GetValues<ReplicaAct>().Where(a => a != ReplicaAct.SetUp).Select(a => (Name: System.Text.Json.JsonNamingPolicy.CamelCase.ConvertName(a.ToString()), Why: acting.WhyNot(s.Database, a, replica.Id))).Where(a => a.Why is not null).ToDictionary(a => a.Name, a => a.Why!),
            [.. replica.TogetherIn(s.Fleet, now).Select(r => r.Id.Value)],
            Watch.Of(s, source, now, withSeed: false).ToleratedOutageSeconds,
            Changes(s, s with { Replicas = [.. s.Replicas.Where(r => r != source)] }, now),
            [.. s.Fleet.ReplicaList.Where(r => r.From == replica.Id).Select(r => r.Id.Value)],
            View(Promoting.Of(s, source, now), replica),
            known is { } k ? k.AppliedTo - Duration.FromSeconds(replica.RewindSeconds) : null,
            known?.ReceivedTo,
            replica.Place is ReplicaPlace.OnArray a ? [.. a.OpensOn.Select(h => h.Value)] : [.. s.Fleet.HostList.Where(h => (h.Engines.Count == 0 || h.Engines.Contains(s.Database.Engine)) && acting.WhyNotOn(s.Database, h.Id) is null).Select(h => h.Id.Value)]));
    }

    private static List<ChangeView> Changes(RecoverySubject now, RecoverySubject then, Instant at) =>
    [
        .. LossChange.Each(now, then, at).Select(c => new ChangeView(
            c.Kind.ToString().ToLowerInvariant(),
            c.Loss.ToString(),
            c.Now?.LostSeconds,
            c.Then?.LostSeconds,
            c.Now?.ServiceSeconds,
            c.Then?.ServiceSeconds,
            c.Agreed ? now.Objective!.RpoSeconds : null,
            c.Agreed ? now.Objective!.RtoSeconds : null)),
    ];

    private static TakingOverView View(Promoting p, Replica replica) => new(
        p.WhyNot,
        replica.Place.Hosts[0].Value,
        p.LostSeconds,
        p.LostBytes,
        p.Way?.Seconds,
        p.Way?.ServiceSeconds,
        p.NeedsApproval,
        [.. replica.Place.Hosts.Select(h => h.Value)],
        [.. p.Others.Select(o => new OtherView(o.Replica.Value, o.WhyNot is null, o.WhyNot))],
        p.FirstBase is { } first ? $"{PlanFile.Name(first.Kind)} into {first.Store}" : null);
}
