using System.Security.Claims;
using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Drills;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.RestoreTogether;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace Imbrek.Server.Features.Recover;

/// <summary>Several databases brought to one instant: which that is, who holds it back, what each gives up, and beginning it.</summary>
internal static class RecoverSeveralEndpoints
{
    private const int LongestSuffix = 30;

    /// <summary>What is asked for.</summary>
    /// <param name="Databases">The databases; each once.</param>
    /// <param name="Target">The latest instant that is wanted; now when left out.</param>
    /// <param name="Loss">The loss supposed; none when left out.</param>
    /// <param name="Suffix">What is added to the name of each for its instance; "together" when left out.</param>
    public sealed record SeveralRequest(IReadOnlyList<string> Databases, Instant? Target, string? Loss, string? Suffix);

    /// <summary>A database of it.</summary>
    /// <param name="Latest">Its own latest instant; null when there is none.</param>
    /// <param name="GivesUpSeconds">What it gives up for the others; null when there is no common instant.</param>
    /// <param name="HoldsBack">Whether without it the common instant would be later, or there would be one.</param>
    /// <param name="Host">Where it is restored; null when it cannot be.</param>
    /// <param name="ReadySeconds">Until it is ready for a look, what it waits for the others included; null when it cannot be.</param>
    /// <param name="WhyNot">What stands in its way; null when nothing does.</param>
    public sealed record SeveralMemberView(string Database, string Name, Instant? Latest, double? GivesUpSeconds, bool HoldsBack, string? Host, double? ReadySeconds, string? WhyNot);

    /// <summary>What it comes to.</summary>
    /// <param name="Common">The common instant; null when there is none.</param>
    /// <param name="Seconds">Until all are ready for a look; null when it cannot be begun.</param>
    /// <param name="Refused">Why it cannot be begun; null when it can.</param>
    public sealed record SeveralView(string Title, Instant? Common, double? Seconds, IReadOnlyList<SeveralMemberView> Members, string? Refused);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/recover/several/worksheet", (SeveralRequest request, FleetState state, Drivers drivers, IClock clock) => TypedResults.Ok(Read(request, state, drivers, clock).View)).Needs(Roles.Look).Computes().WithName("SeveralWorksheet");
        app.MapPost("/api/recover/several", BeginAsync).Needs(Roles.Operate).Computes().WithName("RestoreSeveral");
    }

    private static (SeveralView View, RestoreTogetherKind.Question? Question, RunPlan? Plan) Read(SeveralRequest request, FleetState state, Drivers drivers, IClock clock)
    {
        var now = clock.GetCurrentInstant();
        var premise = Premise.Read(request.Loss, null, state.Fleet, now);
        var (ids, suffix) = (request.Databases ?? [], string.IsNullOrWhiteSpace(request.Suffix) ? "together" : request.Suffix.Trim());
        if (ids.Count is 0 or > RestoreTogether.MostMembers || ids.Distinct().Count() != ids.Count)
        {
            throw new BadInputException("databases", $"name 1 to {RestoreTogether.MostMembers}, each once");
        }

        if (request.Target > now)
        {
            throw new BadInputException("target", "lies in the future");
        }

        if (InputBounds.WhatIsWrongWithId(suffix, LongestSuffix) is { } wrong)
        {
            throw new BadInputException("suffix", wrong);
        }

        for (var i = 0; i < ids.Count; i++)
        {
            if (!state.Has(ids[i] ?? ""))
            {
                throw new BadInputException($"databases[{i}]", $"there is no database '{InputBounds.Quote(ids[i] ?? "")}'", 404, "not-found");
            }
        }

        // By sets alone: a replica is not restored aside.
        var subjects = RestoreTogether.InOrder(ids.Select(d => state[d].Subject.WithoutReplicas));
        var places = subjects.Select((s, i) => (s.Database.Id, i)).ToDictionary(p => p.Id, p => p.i);
        var common = CommonInstant.Of(subjects, premise.Loss, now, request.Target ?? now);
        var before = new List<(Id<Core.Fleet.Host> Host, double Ready)>();
        var ways = subjects.Select(s => Way(s, state, drivers, premise.Loss, now, common.Latest, before)).ToArray();
        var refused = common.Latest is null ? "there is no instant that all of them can be brought to"
            : ways.Select((w, i) => w.WhyNot is { } why ? $"{subjects[i].Database.Id}: {why}" : null).FirstOrDefault(w => w is not null);
        var plan = refused is null ? RestoreTogether.Of([.. subjects.Select((s, i) => new RestoreTogether.Member(s.Database.Id, ways[i].Path!.Host, ways[i].Path!.Seconds + s.Database.CheckSeconds, [.. state.Fleet.Before(s.Database).Where(n => places.ContainsKey(n.Id)).Select(n => places[n.Id])]))], common.Latest!.Value, h => state.Fleet.Hosts[h].Slots ?? SiteLoss.UnstatedSlots) : null;
        var schedule = plan is null ? null : Schedule.Of(plan);
        var title = ids.Count == 1 ? subjects[0].Database.Name : $"{subjects[0].Database.Name} and {ids.Count - 1} more";
        return (
            new SeveralView(
                title,
                common.Latest,
                schedule is null ? null : subjects.Select((_, i) => schedule.EndOf(i + 1)).Max(),
                [.. subjects.Select((s, i) => new SeveralMemberView(
                    s.Database.Id.Value, s.Database.Name, common.Each[i].Latest, common.Each[i].GivesUpSeconds, common.HoldsBack.Contains(s.Database.Id), ways[i].Path?.Host.Value, schedule?.EndOf(i + 1), ways[i].WhyNot))],
                refused),
            plan is null ? null : new RestoreTogetherKind.Question(title, common.Latest!.Value, premise.Loss.ToString(), [.. subjects.Select((s, i) => new RestoreTogetherKind.Member(s.Database.Id.Value, ways[i].Path!.Host.Value, $"{s.Database.Id}-{suffix}"))]),
            plan);
    }

    /// <summary>The way to the common instant by which it is ready first, those before it considered, and what stands in it.</summary>
    private static (RestorePath? Path, string? WhyNot) Way(RecoverySubject s, FleetState state, Drivers drivers, Loss premise, Instant now, Instant? common, List<(Id<Core.Fleet.Host> Host, double Ready)> before)
    {
        if (common is not { } to)
        {
            return (null, null);
        }

        var (d, loss) = (s.Database, premise.For(s.Database, s.Fleet));
        if (drivers.TryFor(d) is null)
        {
            return (null, "this installation has no driver for it");
        }

        (RestorePath? Path, string? WhyNot, double Ready) best = (null, null, double.PositiveInfinity);
        foreach (var host in d.RecoveryHosts)
        {
            var answer = PathFinder.Find(s, new PathQuestion { Target = to, At = now, Loss = loss, Choice = new(host), Learned = state[d.Id].Learned });
            var whyNot = answer.Best is not { } path ? answer.Reason
                : path.Reaches != to ? $"on {host} it reaches {Instants.Write(path.Reaches)} alone"
                : Prechecks.Of(s, s.Fleet.Hosts[host], path, loss, now).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}").FirstOrDefault();
            if (whyNot is not null)
            {
                best.WhyNot ??= whyNot;
            }
            else if (FreeAt(host) + answer.Best!.Seconds + d.CheckSeconds is var ready && ready < best.Ready)
            {
                best = (answer.Best, best.WhyNot, ready);
            }
        }

        if (best.Path is not { } chosen)
        {
            return (null, best.WhyNot ?? "it has no recovery host");
        }

        before.Add((chosen.Host, best.Ready));
        return (chosen, null);

        double FreeAt(Id<Core.Fleet.Host> host) =>
            InTurn.After([.. before.Select(b => b.Host), host], h => s.Fleet.Hosts[h].Slots ?? SiteLoss.UnstatedSlots)[^1] is { } frees ? before[frees].Ready : 0;
    }

    private static async Task<Created<RecoverEndpoints.RunStarted>> BeginAsync(SeveralRequest request, FleetState state, Drivers drivers, NewRuns begin, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        var (view, question, plan) = Read(request, state, drivers, clock);
        if (view.Refused is { } refused)
        {
            throw new BadInputException("databases", refused, 409, "not-possible");
        }

        var row = NewRuns.Row(RestoreTogetherKind.KindName, question!.Members[0].Database, ProductFamily.FamilyName, question, Run.Of(plan!), user.Identity!.Name!, clock.GetCurrentInstant());
        await begin.BeginAsync(row, cancel);
        return TypedResults.Created($"/api/runs/{row.Id}", new RecoverEndpoints.RunStarted(row.Id));
    }
}
