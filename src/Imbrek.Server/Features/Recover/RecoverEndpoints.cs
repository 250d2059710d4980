using System.Security.Claims;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Rehearsal;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.RestoreInPlace;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Mvc;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Recover;

/// <summary>Choose what and when, see the ways, begin a restore.</summary>
internal static class RecoverEndpoints
{
    private const double MostCheckSeconds = 7 * 86_400;

    private const int LongestInstance = 220;

    public sealed record PathStepView(string Set, SetKind Kind, string Store, double Seconds, Instant? StopsAt, string Source);

    public sealed record PathView(
        string Host,
        Instant Reaches,
        double LostSeconds,
        double Seconds,
        double ServiceSeconds,
        double ProvisionSeconds,
        double OpenSeconds,
        string Base,
        SetKind BaseKind,
        IReadOnlyList<string> Stores,
        int Logs,
        string Source,
        string Why,
        IReadOnlyList<PathStepView> Steps,
        ChoiceView Choice);

    /// <summary>What to ask for so that a way is the best one.</summary>
    public sealed record ChoiceView(string? Host, string? Base, string? Without);

    /// <summary>What putting it back in place would reach, take and cost, or why it cannot be.</summary>
    /// <param name="GivesUpSeconds">How much of what was written since is not in it afterwards, but saved.</param>
    /// <param name="Settings">What must be changed on its host; null where nothing must.</param>
    public sealed record InPlaceView(Instant? Reaches, double? LostSeconds, double? Seconds, double? ServiceSeconds, double? GivesUpSeconds, string? WhyNot, SettingsAsked.SettingsView? Settings = null);

    public sealed record NearestView(bool Recoverable, Instant? Before, Instant? After, IReadOnlyList<string> Reasons);

    public sealed record PrecheckView(string Name, PrecheckOutcome Outcome, string Detail);

    public sealed record HostView(string Id, string? WhyNot);

    /// <summary>One way for this question, beside all others.</summary>
    public sealed record ComparedView(
        string Way, string? Replica, bool GivesService, string? Host, Instant? Reaches, double? LostSeconds, double? UsableSeconds, double? ServiceSeconds, long? RoomBytes, long? MovedBytes,
        IReadOnlyList<string> Links, IReadOnlyList<string> Keeps, IReadOnlyList<string> KeepsNot, string Afterwards, string Why, string? WhyNot);

    public sealed record WaysView(
        string Database,
        string Name,
        Instant At,
        Instant Target,
        string Loss,
        string? Host,
        string? Reason,
        NearestView Nearest,
        PathView? Best,
        IReadOnlyList<PathView> Alternatives,
        IReadOnlyList<PrecheckView> Prechecks,
        IReadOnlyList<string> DoesNotComeAlong,
        IReadOnlyList<HostView> Hosts,
        double? RpoSeconds,
        double? RtoSeconds,
        double DetectSeconds,
        double DecideSeconds,
        double CheckSeconds,
        double RedirectSeconds,
        string Markdown,
        string Script,
        bool StopsAtPositions,
        string? QueryHelp,
        InPlaceView InPlace,
        IReadOnlyList<ComparedView> Compared,
        SettingsAsked.SettingsView? Settings);

    /// <param name="CheckWithin">Seconds its checks may take; null for as long as they need.</param>
    /// <param name="Settings">When settings of its host are changed that it needs: <c>now</c> or <c>window</c>; null where it needs none.</param>
    public sealed record RestoreRequest(string Database, Instant Target, string? Loss, Instant? At, string? Host, string? Base, string? Without, string? Instance, string? Query, bool? Rehearse, long? Before, bool? InPlace = null, Instant? Until = null, double? CheckWithin = null, string? Settings = null);

    public sealed record RunStarted(Guid Id);

    public sealed record MarkRequest(string Database, string Title, Instant? At);

    public sealed record MarkMade(Instant At);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/recover/{id}", GetWaysAsync).Needs(Roles.Look).Computes().WithName("Ways");
        app.MapPost("/api/recover", StartAsync).Needs(Roles.Operate).Computes().WithName("StartRestore");
        app.MapPost("/api/incidents", NoteIncidentAsync).Needs(Roles.Operate).WithName("NoteIncident");
    }

    private static async Task<Ok<WaysView>> GetWaysAsync(string id, FleetState state, Drivers drivers, ImbrekContext data, IClock clock, [FromQuery(Name = "target")] string wanted, string? loss, string? at, string? host, [FromQuery(Name = "base")] string? onto, string? without, CancellationToken cancel)
    {
        var target = Premise.ReadInstant("target", wanted);
        var now = clock.GetCurrentInstant();
        var premise = Premise.Read(loss, at, state.Fleet, now);
        var asOf = premise.At ?? now;
        var db = state[id];
        var s = db.Subject;
        var d = s.Database;
        if (target > asOf)
        {
            throw new BadInputException("target", "lies after the instant supposed; nothing can have been backed up of it");
        }

        var resolved = premise.Loss.For(d, s.Fleet);
        var question = new PathQuestion { Target = target, At = asOf, Loss = resolved, Choice = Choice(s, host, onto, without), Learned = db.Learned };
        var answer = PathFinder.Find(s, question, 4);
        var nearest = NearestInstants.To(target, Evaluator.RecoverableAt(s, resolved, asOf));
        var reasons = nearest.Recoverable
            ? []
            : CoverExplainer.Gaps(s, resolved, asOf, nearest.Before ?? target).FirstOrDefault(g => g.Span.Contains(target))?.Reasons ?? ["nothing reaches back that far"];
        var chosen = (answer.Host ?? question.Choice.Host) is { } h ? s.Fleet.Hosts[h] : null;
        var objective = s.Objective;
        var family = drivers.TryFor(d);
        var asked = await SettingsAsked.AtAsync(data, now, cancel);
        return TypedResults.Ok(new WaysView(
            d.Id.Value,
            d.Name,
            asOf,
            target,
            resolved.ToString(),
            answer.Host?.Value,
            answer.Reason,
            new NearestView(nearest.Recoverable, nearest.Before, nearest.After, reasons),
            answer.Best is { } best ? View(best, null) : null,
            [.. answer.Alternatives.Select(a => View(a, answer.Best))],
            chosen is null ? [] : [.. Prechecks.Of(s, chosen, answer.Best, resolved, asOf).Select(c => new PrecheckView(c.Name, c.Outcome, c.Detail))],
            chosen is null ? [] : Prechecks.DoesNotComeAlong(s.Fleet, d, chosen, family?.RestoresInstances ?? false),
            [.. s.Fleet.HostList.Where(x => x.Engines.Count == 0 || x.Engines.Contains(d.Engine)).Select(x => new HostView(x.Id.Value, HostQualification.WhyNot(s.Fleet, d, x, resolved) ?? family?.WhyNotOn(x.Id)))],
            objective?.RpoSeconds,
            objective?.RtoSeconds,
            d.DetectSeconds,
            d.DecideSeconds,
            d.CheckSeconds,
            d.RedirectSeconds,
            answer.Best is { } b ? Runbook.Markdown(d, b, target, resolved) : "",
            answer.Best is { } c ? Runbook.Script(d, c, target) : "",
            family?.StopsAtPositions ?? false,
            family?.QueryHelp,
            InPlace(),
            [.. WaysCompared.Of(s, question, resolved, new(family?.RestoresInstances ?? false, WhyNotInPlace(drivers, s, null, null), WhyNoCopy(CopyUse.View), WhyNoCopy(CopyUse.Clone), WhyNoCopy(CopyUse.LeftOpen), drivers.WhyNoSecond(s.Fleet, d))).Select(w => new ComparedView(
                w.Way, w.Replica?.Value, w.GivesService, w.Host?.Value, w.Reaches, w.LostSeconds, w.UsableSeconds, w.ServiceSeconds, w.RoomBytes, w.MovedBytes, w.Links, w.Keeps, w.KeepsNot, w.Afterwards, w.Why, w.WhyNot))],
            asked.Of(answer.Best?.Needs ?? [])));

        string? WhyNoCopy(CopyUse use) => family is null ? Drivers.WhyNone(d) : family.WhyNoCopy(use, forHosts: use == CopyUse.Clone);

        // On its own host the path may be another one, and takes another time.
        InPlaceView InPlace()
        {
            if (WhyNotInPlace(drivers, s, null, null) is { } whyNot)
            {
                return new(null, null, null, null, null, whyNot);
            }

            var there = PathFinder.Find(s, question with { Choice = question.Choice with { Host = d.Host } });
            return there.Best is not { } path
                ? new(null, null, null, null, null, there.Reason ?? "there is nothing to restore from")
                : WhyNotInPlace(drivers, s, null, path) is { } no ? new(null, null, null, null, null, no)
                : new(path.Reaches, path.LostSeconds, path.Seconds, path.ServiceSeconds, (now - path.Reaches).TotalSeconds, Prechecks.Of(s, s.Fleet.Hosts[d.Host], path, resolved, asOf).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}").FirstOrDefault(), asked.Of(path.Needs));
        }
    }

    private static PathView View(RestorePath p, RestorePath? best) => new(
        p.Host.Value,
        p.Reaches,
        p.LostSeconds,
        p.Seconds,
        p.ServiceSeconds,
        p.ProvisionSeconds,
        p.OpenSeconds,
        p.Base.Set.Value,
        p.Base.Kind,
        [.. p.Steps.Select(s => s.Store.Value).Distinct()],
        p.Steps.Count(s => s.Kind == SetKind.Log),
        p.UsesLearned ? "learned from finished runs" : "from the engine's profile",
        Why(p, best),
        [.. p.Steps.Select(s => new PathStepView(s.Set.Value, s.Kind, s.Store.Value, s.Seconds, s.StopsAt, s.Learned is { } l ? $"learned from {l.Runs} runs" : "profile"))],
        new ChoiceView(p.Choice.Host?.Value, p.Choice.Base?.Value, p.Choice.Without?.Value));

    /// <exception cref="BadInputException">It names what is not there.</exception>
    private static PathChoice Choice(RecoverySubject s, string? host, string? onto, string? without)
    {
        if (host is not null && !s.Fleet.Hosts.ContainsKey(new(host)))
        {
            throw new BadInputException("host", $"there is no host '{host}'");
        }

        if (onto is not null && (s.Catalogue.IndexOf(new(onto)) is var set && (set < 0 || s.Catalogue[set].Kind == SetKind.Log)))
        {
            throw new BadInputException("base", $"there is no set '{onto}' that log could be applied to");
        }

        if (without is not null && !s.Fleet.Stores.ContainsKey(new(without)))
        {
            throw new BadInputException("without", $"there is no store '{without}'");
        }

        return new PathChoice(host is null ? null : new(host), onto is null ? null : new(onto), without is null ? null : new(without));
    }

    /// <summary>Why one would take, or not take, a path.</summary>
    private static string Why(RestorePath p, RestorePath? best)
    {
        if (best is null)
        {
            return $"{(p.Choice.Base is null && p.Choice.Without is null ? "" : "of these ways ")}reaches latest and, among those that do, is back soonest";
        }

        var differs = p.Host != best.Host ? $"on {p.Host}"
            : p.Base.Set != best.Base.Set ? $"from another base, {p.Base.Set}"
            : p.Onto.Set != best.Onto.Set ? $"its log from {p.Onto.Set} on"
            : $"from {string.Join(" and ", p.Steps.Select(s => s.Store).Distinct())}";
        var costs = p.Reaches < best.Reaches ? $"loses {PlainDuration.Of((best.Reaches - p.Reaches).TotalSeconds)} more"
            : Math.Abs(p.Seconds - best.Seconds) < 0.5 ? "takes as long"
            : p.Seconds > best.Seconds ? $"takes {PlainDuration.Of(p.Seconds - best.Seconds)} longer"
            : $"is {PlainDuration.Of(best.Seconds - p.Seconds)} faster, but its host is a later choice";
        return $"{differs}; {costs}";
    }

    private static async Task<Results<Created<RunStarted>, ProblemHttpResult>> StartAsync(
        RestoreRequest request, FleetState state, ImbrekContext data, IClock clock, ClaimsPrincipal user, Drivers drivers, NewRuns begin, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        var db = state[request.Database ?? ""];
        var premise = Premise.Read(request.Loss, request.At is { } t ? Instants.Write(t) : null, state.Fleet, now);
        var s = db.Subject;
        var d = s.Database;
        if (request.Target > now)
        {
            throw new BadInputException("target", "lies in the future");
        }

        if (request.CheckWithin is { } within && (!double.IsFinite(within) || within < 1 || within > MostCheckSeconds))
        {
            throw new BadInputException("checkWithin", $"1 to {MostCheckSeconds:0} seconds");
        }

        if (request.Until is { } until
            && (request.InPlace == true || request.Rehearse == true ? "nothing of it stays that could have an end" : TemporaryCopy.WhatIsWrongWithEnd(until, now)) is { } wrongEnd)
        {
            throw new BadInputException("until", wrongEnd);
        }

        if (request.InPlace == true)
        {
            if (WhyNotInPlace(drivers, s, request, null) is { } whyNot)
            {
                throw new BadInputException("inPlace", whyNot, 409, "not-in-place");
            }

            request = request with { Host = d.Host.Value, Instance = $"back-{Guid.CreateVersion7():n}"[..17], Rehearse = false };
        }

        // The run reads what is there now; the instant supposed only shaped what was looked at.
        var loss = premise.Loss.For(d, s.Fleet);
        var answer = PathFinder.Find(s, new PathQuestion
        {
            Target = request.Target,
            At = now,
            Loss = loss,
            Choice = Choice(s, request.Host, request.Base, request.Without),
            Learned = db.Learned,
        });
        if (answer.Best is not { } path)
        {
            throw new BadInputException("target", answer.Reason!, 409, "no-path");
        }

        if (request.InPlace == true && drivers.For(d).WhyNotInPlace(d, path) is { } not)
        {
            throw new BadInputException("base", not, 409, "not-in-place");
        }

        if (request.InPlace != true && drivers.For(d).WhyNotOn(path.Host) is { } notThere)
        {
            throw new BadInputException("host", notThere, 409, "not-now");
        }

        SettingsAsked.MustBeAnswered(path.Needs, request.Settings);
        path = path with { Needs = (await SettingsAsked.AtAsync(data, now, cancel)).Answered(path.Needs, request.Settings) };
        var failed = Prechecks.Of(s, s.Fleet.Hosts[path.Host], path, loss, now).Where(c => c.Outcome == PrecheckOutcome.Failed).ToArray();
        if (failed.Length > 0)
        {
            throw new BadInputException("host", string.Join("; ", failed.Select(f => $"{f.Name}: {f.Detail}")), 409, "precheck-failed");
        }

        var instance = string.IsNullOrWhiteSpace(request.Instance) ? $"{d.Id}-{(request.Rehearse == true ? "rehearsed" : "restored")}" : request.Instance.Trim();
        if (InputBounds.WhatIsWrongWithId(instance, LongestInstance) is { } wrong)
        {
            throw new BadInputException("instance", wrong);
        }

        var family = drivers.For(d);
        if (request.Before is not null && !family.StopsAtPositions)
        {
            throw new BadInputException("before", $"the drivers of {d.Name} stop at instants alone", 409, "not-at-positions");
        }

        if (request.Before is not null && path.Steps.All(x => x.Kind != SetKind.Log))
        {
            throw new BadInputException("before", "no log reaches there: the base alone would be restored", 409, "no-path");
        }

        var asked = new RestoreQuestion(
            loss.ToString(), request.Target, request.At, string.IsNullOrWhiteSpace(request.Query) ? null : request.Query, request.Without, path.Host.Value, instance, RestoreQuestion.Promise.Of(path), request.Before, Stays: request.Until is not null, CheckWithin: request.CheckWithin, Settings: request.Settings);
        var (rehearse, inPlace) = (request.Rehearse ?? false, request.InPlace ?? false);
        var who = user.Identity!.Name!;
        var run = inPlace
            ? RestoreInPlaceKind.Row(s, path, asked, family.Name, who, now)
            : NewRuns.Row(rehearse ? RehearsalKind.KindName : RestoreKind.KindName, d.Id.Value, family.Name, asked, Run.Of(new RunPlan(RestoreAside.CheckedWithin(RestoreAside.Steps(d, path, instance, held: !rehearse, request.Before), request.CheckWithin))), who, now);
        run.Until = request.Until;
        run.Claim ??= asked.Claim;
        if (!await begin.TryBeginAsync(run, cancel))
        {
            if (inPlace)
            {
                throw new BadInputException("inPlace", $"somebody else has {d.Name} take over, or puts it back", 409, "target-taken");
            }

            var other = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Claim == run.Claim, cancel);
            throw new BadInputException(
                "instance",
                other is not null && other.StateIs.IsOver()
                    ? $"host {path.Host} already has a restored instance named {instance}; choose another name or remove it first"
                    : $"{other?.AskedBy ?? "somebody"} is already restoring to {instance} on {path.Host}",
                409,
                "target-taken");
        }

        return TypedResults.Created($"/api/runs/{run.Id}", new RunStarted(run.Id));
    }

    /// <summary>Why a database cannot be put back in place; null when it can.</summary>
    private static string? WhyNotInPlace(Drivers drivers, RecoverySubject s, RestoreRequest? request, RestorePath? path)
    {
        var d = s.Database;
        return request?.Rehearse == true ? "a rehearsal is thrown away; it puts nothing in place"
            : request?.Host is { } host && host != d.Host.Value ? $"it runs on {d.Host}, and is put back there"
            : !string.IsNullOrWhiteSpace(request?.Instance) ? "what is restored takes the place of what is there, and needs no name"
            : drivers.TryFor(d) is not { } family ? Drivers.WhyNone(d)
            : family.WhyNotInPlace(d, path) is { } why ? why
            : RestoreInPlace.Saves(s.Fleet, d) is null ? "no plan says where what it holds now would be saved first"
            : null;
    }

    private static async Task<Created<MarkMade>> NoteIncidentAsync(
        MarkRequest request, FleetState state, ImbrekContext data, IClock clock, ClaimsPrincipal user, Peers peers, CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        _ = state[request.Database ?? ""];
        if (string.IsNullOrWhiteSpace(request.Title) || request.Title.Length > 200)
        {
            throw new BadInputException("title", "say in at most 200 letters what happened");
        }

        var at = request.At ?? now;
        if (at > now)
        {
            throw new BadInputException("at", "lies in the future");
        }

        var who = user.Identity!.Name!;
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        data.Incidents.Add(new IncidentRow { Database = request.Database!, Title = request.Title.Trim(), At = at, NotedBy = who, NotedAt = now });
        var body = JsonSerializer.Serialize(new { title = request.Title.Trim(), at = Instants.Write(at) });
        await LedgerTable.AppendAsync(data, now, who, "incident", request.Database!, body, cancel);
        await transaction.CommitAsync(cancel);
        await peers.TellAsync([request.Database!], [], cancel);
        return TypedResults.Created((string?)null, new MarkMade(at));
    }
}
