using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Drills;

/// <summary>A drill of many that is asked for.</summary>
/// <param name="Of">group, service or site.</param>
/// <param name="Id">Which.</param>
/// <param name="Kind">restoreTest, switchover, forced or automatic; of a site restoreTest, or forced: it is taken for lost.</param>
/// <param name="Ending">keep, home or part; of a restore test, which changes no roles, keep.</param>
/// <param name="Dated">The drill with a date that it holds; null for none.</param>
/// <param name="Loss">Of a restore test the kind of loss that it supposes: none, host, array, site or hostile; of a site the site when left out, else the host.</param>
public sealed record JointDrillRequest(string Of, string Id, string Kind, string? Ending, Guid? Dated = null, string? Loss = null);

/// <summary>Reads what drill of many is asked for, and plans it for each of its databases: for who looks at it before, who begins it, and who gives it a date.</summary>
internal sealed class JointDrillPlanning(FleetState state, DrillPlanning planning, IClock clock)
{
    /// <summary>A database that takes part.</summary>
    /// <param name="Failed">Prechecks that failed, each with its reason.</param>
    public sealed record Planned(JointRunbook.Member Member, double ServiceSeconds, Core.Fleet.Database Database, IReadOnlyList<string> Failed);

    /// <summary>A database that cannot take part.</summary>
    public sealed record LeftOut(Core.Fleet.Database Database, string WhyNot);

    /// <summary>A drill of many that was read.</summary>
    /// <param name="Claim">What nobody else may have meanwhile.</param>
    /// <param name="Refused">Why it cannot be begun; null when it can.</param>
    public sealed record Joint(string Title, string Claim, DrillKind Kind, DrillEnding Ending, Loss Loss, IReadOnlyList<Planned> Members, IReadOnlyList<LeftOut> Out, RunPlan? Steps, string? Refused);

    /// <summary>Reads a drill of many: who takes part, by which way, and who is left out.</summary>
    /// <exception cref="BadInputException">It cannot be understood; what cannot be begun is said in what was read.</exception>
    public async Task<Joint> ReadAsync(JointDrillRequest request, CancellationToken cancel)
    {
        var (fleet, now) = (state.Fleet, clock.GetCurrentInstant());
        var (kind, ending) = (DrillPlanning.ReadKind(request.Kind, DrillKind.RestoreTest, DrillKind.Switchover, DrillKind.Forced, DrillKind.Automatic), DrillPlanning.ReadEnding(request.Ending));
        var id = request.Id ?? "";
        (string Title, Loss Loss, IEnumerable<Core.Fleet.Database> Databases) about = request.Of switch
        {
            "group" when fleet.Groups.TryGetValue(new(id), out var g) => ($"group {g.Name}", Loss.OfKind(LossKind.Host), g.Databases.Select(d => fleet.DatabaseById[d])),
            "service" when fleet.Services.TryGetValue(new(id), out var s) => ($"service {s.Name}", Loss.OfKind(LossKind.Host), fleet.Databases.Where(d => d.Service == s.Id)),
            "site" when fleet.Sites.TryGetValue(new(id), out var s) => ($"site {s.Name}", Loss.Of(s.Id), fleet.Databases.Where(d => fleet.Hosts[d.Host].Site == s.Id)),
            "group" or "service" or "site" => throw new BadInputException("id", $"there is no {request.Of} '{InputBounds.Quote(id)}'", 404, "not-found"),
            _ => throw new BadInputException("of", "must be one of group, service, site"),
        };
        var (title, loss, databases) = about;
        var restores = kind == DrillKind.RestoreTest;
        if (request.Of == "site" && kind != DrillKind.Forced && !restores)
        {
            throw new BadInputException("kind", "must be forced or restoreTest: a site is taken for lost, with all that is on it");
        }

        if (restores && ending != DrillEnding.Keep)
        {
            throw new BadInputException("ending", "must be keep: a restore test changes no roles");
        }

        if (request.Loss is { } supposed)
        {
            if (!restores)
            {
                throw new BadInputException("loss", "is of a restore test alone");
            }

            loss = Enum.GetValues<LossKind>().Where(k => PlanFile.Name(k) == supposed).Select(k => (Loss?)Loss.OfKind(k)).FirstOrDefault()
                ?? throw new BadInputException("loss", $"must be one of {string.Join(", ", Enum.GetValues<LossKind>().Select(PlanFile.Name))}");
        }

        RecoverySubject[] subjects = [.. databases.Where(d => state.Has(d.Id.Value)).Select(d => state[d.Id].Subject)];
        var ways = request.Of == "site" && !restores ? SiteLoss.Of(subjects, fleet, new(id), now).Returns.ToDictionary(r => r.Database) : null;
        IEnumerable<RecoverySubject> ordered = ways is null ? subjects.OrderBy(s => s.Objective?.RtoSeconds ?? double.PositiveInfinity) : ways.Keys.Select(d => state[d].Subject);
        var (members, left) = (new List<Planned>(), new List<LeftOut>());
        foreach (var s in ordered)
        {
            // What is too much is not planned to its end.
            if (members.Count > JointRunbook.MostMembers)
            {
                break;
            }

            var way = ways?[s.Database.Id].Way;
            (Planned? planned, string? whyNot) = !restores && (ways is null || way is TakeOver)
                ? await ByReplicaAsync(s, kind, ending, loss, (way as TakeOver)?.Replica, now, cancel)
                : (null, null);
            if (planned is null && (restores || ways is not null))
            {
                (planned, var none) = BySets(s, loss, now);
                whyNot ??= none;
            }

            if (planned is not null)
            {
                // Of a site all come back at once: what they wait for each other counts.
                members.Add(ways?[s.Database.Id].ServiceSeconds is { } together ? planned with { ServiceSeconds = Math.Max(together, planned.ServiceSeconds) } : planned);
            }
            else
            {
                left.Add(new(s.Database, whyNot ?? ways?[s.Database.Id].WhyNot ?? "it has no replica"));
            }
        }

        var refused = members.Count == 0 ? "none of its databases can take part"
            : members.Count > JointRunbook.MostMembers ? $"more than {JointRunbook.MostMembers} of its databases could take part, and one drill has so many at most"
            : request.Of == "group" && left.Count > 0 ? $"a group {(restores ? "comes back" : "changes roles")} as one, and {left[0].Database.Id} cannot: {left[0].WhyNot}"
            : members.FirstOrDefault(m => m.Failed.Count > 0) is { } f ? $"{f.Database.Id}: {f.Failed[0]}"
            : null;
        var steps = members.Count is 0 or > JointRunbook.MostMembers
            ? null
            : JointRunbook.Of(new(title, kind, ending, [.. members.Select(m => m.Member)], h => fleet.Hosts[h].Slots ?? SiteLoss.UnstatedSlots));

        // What is restored aside waits for a slot of its host: that counts.
        if (restores && steps is not null)
        {
            var schedule = Schedule.Of(steps);
            members = [.. members.Select((m, i) => m with { ServiceSeconds = m.ServiceSeconds + schedule.StartOf(i + 1) })];
        }

        // Of a group whose roles change nobody else may have it take over meanwhile.
        return new(title, request.Of == "group" && !restores ? $"group:{id}:take-over" : $"{request.Of}:{id}:drill", kind, ending, loss, members, left, steps, refused);
    }

    /// <summary>By sets, restored aside.</summary>
    private (Planned? Planned, string? WhyNot) BySets(RecoverySubject s, Loss loss, Instant now)
    {
        if (planning.WhyNobodyRestores(s.Database) is { } nobody)
        {
            return (null, nobody);
        }

        var test = RestoreTest.Under(s, loss.For(s.Database, state.Fleet), now, learned: state[s.Database.Id].Learned);
        if (test.Path is not { } path)
        {
            return (null, test.WhyNot);
        }

        // A test restore writes aside: what else is at the database does not matter to it.
        var bad = Prechecks.Of(s, state.Fleet.Hosts[path.Host], path, test.Loss, now).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}");
        return (new(new(s.Database.Id, null, path.Host, path.LostSeconds, path.Seconds), path.ServiceSeconds, s.Database, [.. bad]), null);
    }

    /// <summary>The replica by which least is lost, then the soonest back, of those that can.</summary>
    private async Task<(Planned? Planned, string? WhyNot)> ByReplicaAsync(RecoverySubject s, DrillKind kind, DrillEnding ending, Loss loss, Id<Replica>? only, Instant now, CancellationToken cancel)
    {
        DrillPlanning.Drill? best = null;
        string? why = null;
        foreach (var r in s.Replicas.Select(r => r.Replica).Where(r => (only is null || r.Id == only) && !(now < r.Since) && !(now >= r.Until)))
        {
            var drill = await planning.ReadAsync(new(r.Id.Value, PlanFile.Name(kind), PlanFile.Name(ending), null, kind == DrillKind.Forced ? loss.ToString() : null, true), cancel, joint: true);
            if (drill.Planned.Refused.Count > 0 || planning.WhyNobodyActs(drill) is not null)
            {
                why ??= drill.Planned.Refused.Count > 0 ? string.Join("; ", drill.Planned.Refused) : planning.WhyNobodyActs(drill);
            }
            else if (best is null || (drill.Planned.LostSeconds, drill.Planned.ServiceSeconds) is var (lost, service) && (lost < best.Planned.LostSeconds || (lost == best.Planned.LostSeconds && service < best.Planned.ServiceSeconds)))
            {
                best = drill;
            }
        }

        if (best is null)
        {
            return (null, why);
        }

        var failed = (await planning.PrechecksAsync(best, null, cancel)).Where(p => p.Outcome == PrecheckOutcome.Failed).Select(p => $"{p.Name}: {p.Detail}");
        return (new(new(s.Database.Id, best.Source.Replica.Id, best.To, best.Planned.LostSeconds ?? 0, best.Planned.ServiceSeconds ?? 0), best.Planned.ServiceSeconds ?? 0, s.Database, [.. failed]), null);
    }
}
