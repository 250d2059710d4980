using System.Security.Claims;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Database;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.DumpedMove;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Moves;

/// <summary>A move with little downtime, computed before anything is touched: its rounds, whether the last fits, and what would have to be otherwise; and begun where it fits.</summary>
internal static class MoveEndpoints
{
    /// <summary>What is asked for; what is left out is as the fleet knows it.</summary>
    /// <param name="To">The host it is to live on.</param>
    /// <param name="Settings">When settings of the host it leaves are changed that it needs: <c>now</c> or <c>window</c>; null where it needs none.</param>
    public sealed record MoveSheetRequest(string Database, string To, double? Change, double? Rate, double? Round, double? Window, double? Metadata, double? Check, double? Read, int? Most, string? Settings = null);

    public sealed record MoveRound(double Bytes, double Seconds);

    /// <summary>What would make it fit, each by itself.</summary>
    public sealed record MoveRemedyView(double Window, double? Rate, double? Change);

    /// <param name="Why">Why it is not possible there; null when it is.</param>
    /// <param name="WhyNotBegun">Why it cannot be begun here, whatever the figures; null when it can.</param>
    /// <param name="First">The full it begins with, where log is kept for it alone; null where log is kept anyway.</param>
    public sealed record MoveSheet(
        string Name, string From, string To, string? Why, string? WhyNotBegun, double Size, double Change, string ChangeFrom, double Rate, string RateFrom, double Round, double Window, double Metadata, double Check, double? Read,
        IReadOnlyList<MoveRound> Rounds, MoveRound Last, double DowntimeSeconds, bool Fits, double TotalSeconds, MoveRemedyView? Remedy, SettingsAsked.SettingsView? Settings, ByDumpView ByDump, FirstFull? First);

    /// <summary>The same by dump and load: nobody could write from its beginning to its end, so it is rehearsed, and that is measured.</summary>
    /// <param name="WhyNot">Why that can neither be rehearsed nor carried out here; null when it can.</param>
    /// <param name="WhyNotCarriedOut">Why it can be rehearsed alone; null when it can be carried out too.</param>
    /// <param name="Store">Where the dump would lie meanwhile.</param>
    /// <param name="Settings">What must be changed on the other host; null where nothing must.</param>
    /// <param name="Last">The last rehearsal; null where there is none.</param>
    public sealed record ByDumpView(string? WhyNot, string? WhyNotCarriedOut, string? Store, SettingsAsked.SettingsView? Settings, DumpRehearsedView? Last);

    /// <summary>What a rehearsal measured.</summary>
    /// <param name="RedirectSeconds">Seconds to send clients over, as the fleet says.</param>
    /// <param name="NotPassed">Checks that did not pass.</param>
    public sealed record DumpRehearsedView(Guid Run, Instant At, string Host, double DumpSeconds, double LoadSeconds, double CheckSeconds, double RedirectSeconds, double DowntimeSeconds, long DumpBytes, IReadOnlyList<string> NotPassed);

    /// <summary>Asks for a move by dump and load, or its rehearsal.</summary>
    /// <param name="Store">Where the dump lies meanwhile; null for where a plan backs the database up.</param>
    /// <param name="Settings">When settings of the other host are changed that it needs: <c>now</c> or <c>window</c>; null where it needs none.</param>
    public sealed record DumpRequest(string Database, string To, string? Store = null, string? Settings = null);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/moves/worksheet", WorksheetAsync).Needs(Roles.Look).Computes().WithName("MoveWorksheet");
        app.MapPost("/api/moves/rehearse", RehearseAsync).Needs(Roles.Operate).Computes().WithName("RehearseMove");
        app.MapPost("/api/moves/by-dump", BeginByDumpAsync).Needs(Roles.Operate).Computes().WithName("BeginMoveByDump");
        app.MapPost("/api/moves", BeginAsync).Needs(Roles.Operate).Computes().WithName("BeginMove");
    }

    private static async Task<Ok<MoveSheet>> WorksheetAsync(MoveSheetRequest request, FleetState state, DesignedState designed, Runs.Drivers drivers, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var (s, to, known, q) = Read(request, state, designed, now);
        var d = s.Database;
        var forecast = MoveForecast.Of(q);
        var settings = await SettingsAsked.AtAsync(data, now, cancel);
        var log = LogToFollow.Of(s, designed, now);
        return TypedResults.Ok(new MoveSheet(
            d.Name,
            d.Host.Value,
            to.Id.Value,
            HostQualification.WhyNot(s.Fleet, d, to, Loss.None),
            WhyNotBegun(s, to, drivers),
            q.Size,
            q.Change,
            request.Change is null ? known.ChangeFrom : "as you say",
            q.Rate,
            request.Rate is null ? known.RateFrom : "as you say",
            q.Round,
            q.Window,
            q.Metadata,
            q.Check,
            q.Read,
            [.. forecast.Rounds.Select(Of)],
            Of(forecast.Last),
            forecast.DowntimeSeconds,
            forecast.Fits,
            forecast.TotalSeconds,
            MoveForecast.RemedyOf(q) is { } r ? new MoveRemedyView(r.Window, r.Rate, r.Change) : null,
            settings.Of(NeedsOf(s, log)),
            await ByDumpAsync(s, to, drivers, settings, data, cancel),
            FirstFull.Of(log.Kept)));

        static MoveRound Of(MoveForecast.Round r) => new(r.Data, r.Seconds);
    }

    /// <summary>Begins a move whose last round fits.</summary>
    private static async Task<Created<ReplicaActions.RunBegun>> BeginAsync(
        MoveSheetRequest request, FleetState state, DesignedState designed, Runs.Drivers drivers, NewRuns begin, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var (s, to, _, q) = Read(request, state, designed, now);
        if (WhyNotBegun(s, to, drivers) is { } whyNot)
        {
            throw new BadInputException("to", whyNot, 409, "not-moved");
        }

        if (MoveForecast.Of(q) is { Fits: false } forecast)
        {
            throw new BadInputException("window", $"nobody could write for {PlainDuration.Of(forecast.DowntimeSeconds)}, and {PlainDuration.Of(q.Window)} are allowed: give it a longer window, or more bytes a second", 409, "does-not-fit");
        }

        var log = LogToFollow.Of(s, designed, now);
        var path = PathFinder.Unopened(log.From, now, to) ?? throw new BadInputException("to", $"no set of {s.Database.Name} that log could follow can be read at {to.Id}", 409, "no-path");
        if (Prechecks.Of(log.From, to, path, Loss.None, now).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}").ToArray() is { Length: > 0 } failed)
        {
            throw new BadInputException("to", string.Join("; ", failed), 409, "precheck-failed");
        }

        var needs = NeedsOf(s, log);
        SettingsAsked.MustBeAnswered(needs, request.Settings);
        needs = (await SettingsAsked.AtAsync(data, now, cancel)).Answered(needs, request.Settings);
        var run = MoveKind.Row(s, path, LogRounds.LogOf(s.Fleet, s.Database)!, q, needs, request.Settings, log.Kept, drivers.For(s.Database).Name, user.Identity!.Name!, now);
        await begin.BeginAsync(run, cancel);
        return TypedResults.Created($"/api/runs/{run.Id}", new ReplicaActions.RunBegun(run.Id));
    }

    /// <summary>Rehearses it by dump and load.</summary>
    private static async Task<Created<ReplicaActions.RunBegun>> RehearseAsync(
        DumpRequest request, FleetState state, DesignedState designed, Runs.Drivers drivers, NewRuns begin, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var (s, order) = await OrderAsync(request, state, designed, drivers, data, now, cancel);
        var run = RehearseMoveKind.Row(order, request.Settings, drivers.For(s.Database).Name, user.Identity!.Name!, now);
        await begin.BeginAsync(run, cancel);
        return TypedResults.Created($"/api/runs/{run.Id}", new ReplicaActions.RunBegun(run.Id));
    }

    /// <summary>Begins it by dump and load: it is held before anybody is kept out.</summary>
    private static async Task<Created<ReplicaActions.RunBegun>> BeginByDumpAsync(
        DumpRequest request, FleetState state, DesignedState designed, Runs.Drivers drivers, NewRuns begin, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var (s, order) = await OrderAsync(request, state, designed, drivers, data, now, cancel);
        if (WhyNotCarriedOut(s, order.Host, drivers) is { } whyNot)
        {
            throw new BadInputException("to", whyNot, 409, "not-moved");
        }

        var rehearsed = await LastAsync(data, s.Database, cancel) is { } last && RestoreQuestion.Of(last)!.Host == order.Host.Id.Value ? RunJson.Read<MoveByDump.Measured>(last.Result!).DowntimeSeconds : (double?)null;
        var run = DumpedMoveKind.Row(s, order, rehearsed, request.Settings, drivers.For(s.Database).Name, user.Identity!.Name!, now);
        await begin.BeginAsync(run, cancel);
        return TypedResults.Created($"/api/runs/{run.Id}", new ReplicaActions.RunBegun(run.Id));
    }

    /// <summary>What is dumped and loaded, as it was asked.</summary>
    /// <exception cref="BadInputException">It names what cannot be.</exception>
    private static async Task<(RecoverySubject Subject, MoveByDump.Order Order)> OrderAsync(DumpRequest request, FleetState state, DesignedState designed, Runs.Drivers drivers, ImbrekContext data, Instant now, CancellationToken cancel)
    {
        var s = state[request.Database ?? ""].Subject;
        if (!s.Fleet.Hosts.TryGetValue(new(request.To ?? ""), out var to))
        {
            throw new BadInputException("to", $"there is no host '{InputBounds.Quote(request.To ?? "")}'");
        }

        var (take, whyNot) = DumpOf(s, to, request.Store, drivers);
        if (take is not { } dump)
        {
            throw whyNot!;
        }

        var (d, engine) = (s.Database, s.Fleet.Engines[s.Database.Engine]);
        var needs = NeededSetting.Of(to, engine.LoadNeeds);
        SettingsAsked.MustBeAnswered(needs, request.Settings);
        needs = (await SettingsAsked.AtAsync(data, now, cancel)).Answered(needs, request.Settings);
        var (seconds, stored) = AdHocPlanning.Expected(dump, s.Fleet, designed, d, now);
        return (s, new(d, engine, to, Moving.NewInstance(), dump, seconds, (stored ?? d.SizeBytes) / Routes.Slowest(s.Fleet, to.Id, new Id<Store>(dump.Store)), needs));
    }

    /// <summary>The last rehearsal of a move by dump and load; null where there is none.</summary>
    private static Task<RunRow?> LastAsync(ImbrekContext data, Core.Fleet.Database d, CancellationToken cancel) =>
        data.Runs.AsNoTracking().Where(r => r.Kind == RehearseMoveKind.KindName && r.Database == d.Id.Value && r.Result != null && r.Ended != null).OrderByDescending(r => r.Ended).FirstOrDefaultAsync(cancel);

    /// <summary>Why it can be rehearsed by dump and load and not carried out; null when it can be.</summary>
    private static string? WhyNotCarriedOut(RecoverySubject s, Core.Fleet.Host to, Runs.Drivers drivers) =>
        (drivers.TryFor(s.Database) is { } family ? family.WhyNotInPlace(s.Database, null) : Drivers.WhyNone(s.Database))
        ?? (s.Fleet.ReplicasOf(s.Database.Id).FirstOrDefault(r => r.Place.Hosts.Contains(to.Id)) is { } replica ? $"{replica.Id} follows there already: switch over to it" : null);

    private static async Task<ByDumpView> ByDumpAsync(RecoverySubject s, Core.Fleet.Host to, Runs.Drivers drivers, SettingsAsked settings, ImbrekContext data, CancellationToken cancel)
    {
        var d = s.Database;
        var (take, whyNot) = DumpOf(s, to, null, drivers);
        var last = await LastAsync(data, d, cancel);
        return new(
            whyNot?.Message,
            take is null ? null : WhyNotCarriedOut(s, to, drivers),
            take?.Store,
            take is null ? null : settings.Of(NeededSetting.Of(to, s.Fleet.Engines[d.Engine].LoadNeeds)),
            last is null ? null : Of(RunJson.Read<MoveByDump.Measured>(last.Result!)));

        DumpRehearsedView Of(MoveByDump.Measured m) => new(
            last!.Id, last.Ended!.Value, RestoreQuestion.Of(last)!.Host, m.DumpSeconds, m.LoadSeconds, m.CheckSeconds, m.RedirectSeconds, m.DowntimeSeconds, m.DumpBytes, m.Failed);
    }

    /// <summary>What is dumped, and where to: where a plan backs it up unless another store is named; or why it cannot be, or not be loaded there.</summary>
    private static (TakeSpec? Dump, BadInputException? WhyNot) DumpOf(RecoverySubject s, Core.Fleet.Host to, string? named, Runs.Drivers drivers)
    {
        var (d, engine) = (s.Database, s.Fleet.Engines[s.Database.Engine]);
        if (!engine.CanTake(SetKind.Export))
        {
            return (null, new("database", $"{engine.Name} takes no dump", 409, "not-moved"));
        }

        var store = named ?? RestoreInPlace.Saves(s.Fleet, d)?.Store ?? s.Fleet.PlansOf(d).SelectMany(p => p.Tasks).Select(t => t.Store?.Value).FirstOrDefault(t => t is not null);
        if (store is null)
        {
            return (null, new("store", "no plan backs it up: say into which store it is dumped", 409, "no-store"));
        }

        var (take, why) = AdHocPlanning.Of(d, new(SetKind.Export, store, null, null, null), s.Fleet, drivers, "move");
        var whyNotThere = d.IsInstanceData ? "what an instance holds beside its databases stays with its host"
            : to.Id == d.Host ? $"{d.Name} lives on {to.Id} already"
            : HostQualification.WhyNot(s.Fleet, d, to, Loss.None) ?? drivers.TryFor(d)?.WhyNotOn(to.Id)
            ?? (take is not null && Routes.Slowest(s.Fleet, to.Id, new Id<Store>(store)) <= 0 ? $"nothing leads from {store} to {to.Id}" : null);
        return take is null ? (null, why) : whyNotThere is null ? (take, null) : (null, new("to", whyNotThere, 409, "not-moved"));
    }

    /// <summary>What must be changed on the host it leaves.</summary>
    private static IReadOnlyList<NeededSetting> NeedsOf(RecoverySubject s, LogToFollow log) => [.. NeededSetting.Of(s.Fleet.Hosts[s.Database.Host], s.Fleet.Engines[s.Database.Engine].MoveNeeds), .. log.Needs];

    /// <summary>Why a database is not moved to a host by its sets, whatever the figures; null when it can be.</summary>
    private static string? WhyNotBegun(RecoverySubject s, Core.Fleet.Host to, Runs.Drivers drivers)
    {
        var d = s.Database;
        return drivers.TryFor(d) is not { } family ? Drivers.WhyNone(d)
            : family.WhyNoMove is { } no ? no
            : d.IsInstanceData ? "what an instance holds beside its databases stays with its host"
            : LogToFollow.WhyNot(s, family) is { } noLog ? $"log is what follows, and {noLog}"
            : s.Fleet.ReplicasOf(d.Id).FirstOrDefault(r => r.Place.Hosts.Contains(to.Id)) is { } replica ? $"{replica.Id} follows there already: switch over to it"
            : HostQualification.WhyNot(s.Fleet, d, to, Loss.None);
    }

    /// <summary>What is asked for, with what the fleet knows where nothing is said.</summary>
    /// <exception cref="BadInputException">It names what is wrong.</exception>
    private static (RecoverySubject Subject, Core.Fleet.Host To, MoveFigures Known, MoveQuestion Figures) Read(MoveSheetRequest request, FleetState state, DesignedState designed, Instant now)
    {
        var (s, fleet) = (state[request.Database ?? ""].Subject, state.Fleet);
        var d = s.Database;
        if (!fleet.Hosts.TryGetValue(new(request.To ?? ""), out var to))
        {
            throw new BadInputException("to", $"there is no host '{InputBounds.Quote(request.To ?? "")}'");
        }

        if (to.Id == d.Host)
        {
            throw new BadInputException("to", $"{d.Name} lives on {to.Id} already");
        }

        if (MoveFigures.Of(fleet, d, to, designed.LoadOf(d, now)) is not { } known)
        {
            throw new BadInputException("to", $"nothing links {fleet.Hosts[d.Host].Site} and {to.Site}", 409, "no-link");
        }

        var k = known.Question;
        var q = k with
        {
            Change = request.Change ?? k.Change,
            Rate = request.Rate ?? k.Rate,
            Round = request.Round ?? k.Round,
            Window = request.Window ?? k.Window,
            Metadata = request.Metadata ?? k.Metadata,
            Check = request.Check ?? k.Check,
            Read = request.Read ?? k.Read,
            Most = request.Most ?? k.Most,
        };
        return q.Fault() is var (member, why) ? throw new BadInputException(member, why) : (s, to, known, q);
    }
}
