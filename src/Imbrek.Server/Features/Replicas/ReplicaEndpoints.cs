using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Replicas;

/// <summary>Replicas as a list, those that need somebody first, and one with all that is known of it.</summary>
internal static class ReplicaEndpoints
{
    private const int MostRows = 20_000;

    /// <summary>How many pieces the lag of one replica is drawn with at most; of more, neighbours are drawn as one, at their worst.</summary>
    private const int MostPieces = 600;

    /// <summary>A replica and how it stands.</summary>
    public sealed record ReplicaRow(
        string Id,
        string Database,
        string DatabaseName,
        string? Group,
        ReplicaState State,
        string? WhyBroken,
        string? HeldUpBy,
        string? HeldByPerson,
        ReplicaMode Mode,
        double DelaySeconds,
        string? Host,
        string? Array,
        string Site,
        string? FedBy,
        Instant? FrozenSince,
        double? ReceivedLagSeconds,
        double? AppliedLagSeconds,
        long? PendingBytes,
        double? WorstLossSeconds,
        double? ByDesignSeconds,
        double? ReadByDesignSeconds,
        double? RpoSeconds,
        double? ToleratedOutageSeconds,
        double? KeptSeconds,
        double? CatchUpSeconds,
        double? ReadCatchUpSeconds,
        double? RoomSeconds);

    public sealed record ReplicaPage(Instant At, IReadOnlyList<ReplicaRow> Rows, int Total, int? Next);

    /// <summary>What it is worth under one loss: up to where it would bring the database and how soon, or why it does not count.</summary>
    public sealed record WorthView(string Kind, string Loss, double? LostSeconds, double? ServiceSeconds, bool ByItself, string? WhyNot);

    /// <summary>A way to mend it, or why that is not possible.</summary>
    public sealed record MendingView(Mending.By By, double? Seconds, int Sets, string? WhyNot);

    /// <summary>A span of its lag; what lies between two spans is an outage.</summary>
    public sealed record LagPiece(Instant From, Instant To, double ReceivedSeconds, double AppliedSeconds);

    /// <summary>Who votes, and how many are left after a loss.</summary>
    public sealed record VotersView(string Group, IReadOnlyList<string> Hosts, IReadOnlyList<VoteView> After);

    public sealed record VoteView(string Loss, int Alive, bool Majority);

    public sealed record ReplicaView(
        Instant At,
        Instant LagFrom,
        ReplicaRow Row,
        string PrimaryHost,
        string SourceSite,
        string TimeZone,
        double? LinkBytesPerSecond,
        double? RoundTripMs,
        double? BacklogBytes,
        double? LogBytesPerSecond,
        double? BusiestLogBytesPerSecond,
        double? WaitMs,
        double? SeedSeconds,
        bool? SeedByBackup,
        ReplicaReadable Readable,
        TakesOver TakesOver,
        WhenCut WhenCut,
        long? PrimaryLogRoomBytes,
        long? LogRoomBytes,
        IReadOnlyList<WorthView> Worth,
        IReadOnlyList<MendingView> Mending,
        IReadOnlyList<LagPiece> Lag,
        VotersView? Voters);

    /// <summary>What a watcher saw: at an instant (now when left out) everything committed up to <c>ReceivedTo</c> was received, and up to <c>AppliedTo</c> applied.</summary>
    public sealed record SampleRequest(string Replica, int? Branch, Instant? At, Instant ReceivedTo, Instant AppliedTo, long? PendingBytes, long? ReceivedPosition, bool? InStep, string? HeldUpBy, bool? Unusable, string? WatchedFrom = null);

    public sealed record SamplesRequest(IReadOnlyList<SampleRequest> Samples);

    public sealed record SamplesTaken(int Samples, int Stretches);

    public static void Map(IEndpointRouteBuilder app)
    {
        ReplicaActions.Map(app);
        app.MapPost("/api/replicas/samples", TakeSamplesAsync).Needs(Roles.Operate).WithName("TakeSamples");
        app.MapGet("/api/replicas", GetReplicas).Needs(Roles.Look).Computes().WithName("Replicas");
        app.MapGet("/api/replicas/{id}", GetReplica).Needs(Roles.Look).Computes().WithName("Replica");
    }

    private static Ok<ReplicaPage> GetReplicas(FleetState state, IClock clock, IGuest guest, string? at, string? database, int? from, int? take, CancellationToken cancel)
    {
        if (from < 0 || take is < 1 or > MostRows)
        {
            throw new BadInputException(from < 0 ? "from" : "take", from < 0 ? "must be at least 0" : $"must be between 1 and {MostRows}");
        }

        var now = clock.GetCurrentInstant();
        var asOf = Premise.Read(null, at, state.Fleet, now).At ?? now;
        var replicas = database is null ? state.Fleet.ReplicaList : state.Fleet.ReplicasOf(state[database].Subject.Database.Id);
        var rows = new ReplicaRow?[replicas.Count];
        Parallel.For(0, rows.Length, new ParallelOptions { CancellationToken = cancel }, i => rows[i] = Find(state, replicas[i].Id.Value) is var (s, source) ? Row(s, source, LookedAt(source, asOf, guest.Pace), Watch.Of(s, source, LookedAt(source, asOf, guest.Pace), withSeed: false)) : null);

        // Those that need somebody first, and of those the ones that are farthest behind.
        ReplicaRow[] ordered = [.. rows.OfType<ReplicaRow>().OrderBy(r => Need(r.State)).ThenByDescending(r => r.ReceivedLagSeconds ?? double.MaxValue)];
        var start = Math.Min(from ?? 0, ordered.Length);
        ReplicaRow[] shown = [.. ordered.Skip(start).Take(take ?? MostRows)];
        return TypedResults.Ok(new ReplicaPage(asOf, shown, ordered.Length, start + shown.Length < ordered.Length ? start + shown.Length : null));
    }

    private static async Task<Ok<SamplesTaken>> TakeSamplesAsync(SamplesRequest request, FleetState state, LagIntake intake, IClock clock, CancellationToken cancel)
    {
        if (request.Samples is not { Count: > 0 and <= MostRows })
        {
            throw new BadInputException("samples", $"send 1 to {MostRows} samples");
        }

        var now = clock.GetCurrentInstant();
        var samples = new LagSample[request.Samples.Count];
        for (var i = 0; i < samples.Length; i++)
        {
            samples[i] = Read(request.Samples[i], $"samples[{i}]", state.Fleet, now);
        }

        return TypedResults.Ok(new SamplesTaken(samples.Length, await intake.TakeAsync(samples, cancel)));
    }

    private static LagSample Read(SampleRequest s, string where, FleetModel fleet, Instant now)
    {
        if (s is null || s.Replica is null || !fleet.Replicas.TryGetValue(new(s.Replica), out var replica))
        {
            throw new BadInputException($"{where}.replica", $"there is no replica '{InputBounds.Quote(s?.Replica ?? "")}'");
        }

        var at = s.At ?? now;
        var branch = s.Branch ?? ReplicaSource.LiveBranchOf(fleet.DatabaseById[replica.Database], at);
        return at > now + MostAhead || at < now - MostBehind ? throw new BadInputException($"{where}.at", "is not of this hour")
            : s.ReceivedTo > at ? throw new BadInputException($"{where}.receivedTo", "is after the instant it was seen at")
            : s.AppliedTo > s.ReceivedTo ? throw new BadInputException($"{where}.appliedTo", "is after receivedTo")
            : at - s.AppliedTo > MostLag ? throw new BadInputException($"{where}.appliedTo", "is more than ten years ago")
            : s.HeldUpBy is { Length: > MostText } ? throw new BadInputException($"{where}.heldUpBy", $"is at most {MostText} letters")
            : s.WatchedFrom is { } eye && !fleet.Hosts.ContainsKey(new(eye)) ? throw new BadInputException($"{where}.watchedFrom", $"there is no host '{InputBounds.Quote(eye)}'")
            : s.PendingBytes is < 0 or > InputBounds.Bytes ? throw new BadInputException($"{where}.pendingBytes", $"must be from 0 to {InputBounds.Bytes}")
            : branch != 1 && fleet.DatabaseById[replica.Database].Branches.All(b => b.Id != branch) ? throw new BadInputException($"{where}.branch", $"database '{replica.Database}' has no branch {branch}")
            : new LagSample(replica.Id, branch, Instants.Floor(at), Instants.Floor(s.ReceivedTo), Instants.Floor(s.AppliedTo), s.PendingBytes ?? 0, s.ReceivedPosition, s.InStep ?? false, s.HeldUpBy, s.Unusable ?? false, s.WatchedFrom is { } from ? new(from) : null);
    }

    private const int MostText = 300;
    private static readonly Duration MostAhead = Duration.FromMinutes(1);
    private static readonly Duration MostBehind = Duration.FromHours(1);
    private static readonly Duration MostLag = Duration.FromDays(3650);

    private static int Need(ReplicaState state) => state switch
    {
        ReplicaState.Broken => 0,
        ReplicaState.CutOff => 1,
        ReplicaState.Behind => 2,
        ReplicaState.Held => 3,
        ReplicaState.Seeding => 4,
        ReplicaState.InStep => 5,
        _ => 6,
    };

    private static Ok<ReplicaView> GetReplica(string id, FleetState state, IClock clock, IGuest guest, string? at)
    {
        var now = clock.GetCurrentInstant();
        var asOf = Premise.Read(null, at, state.Fleet, now).At ?? now;
        if (Find(state, id) is not var (s, source))
        {
            throw new BadInputException("id", $"there is no replica '{id}'", 404, "not-found");
        }

        asOf = LookedAt(source, asOf, guest.Pace);
        var (fleet, d, replica) = (s.Fleet, s.Database, source.Replica);
        var figures = Watch.Of(s, source, asOf);
        var link = replica.LinkIn(fleet, out _);
        var flow = LogFlow.Of(d);
        var from = asOf - DatabaseState.Window;
        return TypedResults.Ok(new ReplicaView(
            asOf,
            from,
            Row(s, source, asOf, figures),
            d.Host.Value,
            fleet.Sites[replica.SourceSiteIn(fleet)].Name,
            fleet.Sites[replica.SiteIn(fleet)].TimeZone,
            link?.BytesPerSecond,
            link?.RoundTripMs,
            figures.BacklogBytes,
            flow is null ? null : flow.InHour(asOf.InUtc().Hour),
            flow?.Busiest,
            figures.WaitMs,
            figures.Seed?.Seconds,
            figures.Seed?.ByBackup,
            replica.Readable,
            replica.TakesOver,
            replica.WhenCut,
            d.LogRoomBytes,
            replica.LogRoomBytes,
            [.. Worth(s, source, asOf)],
            figures.State is ReplicaState.Broken or ReplicaState.CutOff ? [.. Core.Replication.Mending.Of(s, source, asOf).Select(w => new MendingView(w.By, w.Seconds, w.Sets?.Steps.Count ?? 0, w.WhyNot))] : [],
            Pieces(source.Lag, from, asOf),
            Voters(s)));
    }

    /// <summary>Between two looks what the last one showed stands: a replica is not cut off because nobody has looked for some seconds. One that has ended has.</summary>
    internal static Instant LookedAt(ReplicaSource source, Instant asOf, double pace) =>
        !(source.Replica.Until <= asOf) && source.At(asOf) is { Covers: false } known && asOf - known.Until <= LagWatch.LooksAgainWithin(source.Replica) + Duration.FromSeconds(pace * TakenInWithinSeconds) ? known.Until : asOf;

    /// <summary>How long of the machine a look is under way until it is known here: at a fast pace of a demo that is minutes.</summary>
    private const double TakenInWithinSeconds = 1;

    /// <summary>The database and its replica, of one state of the fleet; null when it is being taken out of it.</summary>
    public static (RecoverySubject Subject, ReplicaSource Source)? Find(FleetState state, string id)
    {
        if (!state.Fleet.Replicas.TryGetValue(new(id), out var replica) || !state.Has(replica.Database.Value))
        {
            return null;
        }

        var subject = state[replica.Database].Subject;
        return subject.Replicas.FirstOrDefault(r => r.Replica.Id == replica.Id) is { } source ? (subject, source) : null;
    }

    private static ReplicaRow Row(RecoverySubject s, ReplicaSource source, Instant at, ReplicaFigures f)
    {
        var (fleet, d, replica) = (s.Fleet, s.Database, source.Replica);
        var known = source.At(at);
        return new ReplicaRow(
            replica.Id.Value,
            d.Id.Value,
            d.Name,
            fleet.GroupOf(d.Id)?.Name,
            f.State,
            f.WhyBroken,
            source.Note.HeldUpBy,
            source.Note.HeldBy,
            replica.Mode,
            replica.DelaySeconds,
            (replica.Place as ReplicaPlace.OnHost)?.Host.Value,
            (replica.Place as ReplicaPlace.OnArray)?.Array.Value,
            fleet.Sites[replica.SiteIn(fleet)].Name,
            replica.From?.Value,
            known is { Covers: false } ? known.Value.Until : null,
            f.ReceivedLagSeconds,
            f.AppliedLagSeconds,
            known?.PendingBytes,
            source.Lag.WorstReceivedLag(at - DatabaseState.Window, at)?.TotalSeconds,
            f.ByDesignSeconds,
            f.ReadByDesignSeconds,
            s.Objective?.RpoSeconds,
            f.ToleratedOutageSeconds,
            f.ToleratedOutageSeconds + f.ReceivedLagSeconds,
            f.CatchUpSeconds,
            f.ReadCatchUpSeconds,
            f.RoomSeconds);
    }

    private static IEnumerable<WorthView> Worth(RecoverySubject s, ReplicaSource source, Instant at)
    {
        foreach (var kind in Enum.GetValues<LossKind>())
        {
            var loss = Loss.OfKind(kind).For(s.Database, s.Fleet);
            if (kind == LossKind.Array && loss.Kind == LossKind.None)
            {
                // It lies on no array.
                continue;
            }

            var answer = TakeOver.Each(s, new PathQuestion { Target = at, At = at, Loss = loss }, loss).First(a => a.Replica.Id == source.Replica.Id);
            yield return new WorthView(kind.ToString().ToLowerInvariant(), loss.ToString(), answer.Way?.LostSeconds, answer.Way?.ServiceSeconds, answer.Way?.ByItself ?? false, answer.WhyNot);
        }
    }

    private static VotersView? Voters(RecoverySubject s)
    {
        if (s.Fleet.GroupOf(s.Database.Id) is not { Voters.Count: > 0 } group)
        {
            return null;
        }

        var losses = s.Fleet.SiteList.Where(x => group.Voters.Any(v => s.Fleet.Hosts[v].Site == x.Id)).Select(x => Loss.Of(x.Id));
        return new VotersView(
            group.Name,
            [.. group.Voters.Select(v => v.Value)],
            [.. losses.Select(l => new VoteView(l.ToString(), Core.Replication.Voters.AliveAfter(group, l, s.Fleet), Core.Replication.Voters.HaveMajorityAfter(group, l, s.Fleet)))]);
    }

    private static List<LagPiece> Pieces(LagHistory lag, Instant from, Instant to)
    {
        LagStretch[] within = [.. lag.Within(from, to)];
        var each = Math.Max(1, (within.Length + MostPieces - 1) / MostPieces);
        return
        [
            .. within.Chunk(each).Select(c => new LagPiece(
                Instant.Max(from, c[0].From), Instant.Min(to, c[^1].To), c.Max(s => s.ReceivedLag.TotalSeconds), c.Max(s => s.AppliedLag.TotalSeconds))),
        ];
    }
}
