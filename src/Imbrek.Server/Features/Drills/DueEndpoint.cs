using System.Globalization;
using Imbrek.Core.Drills;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Drills;

/// <summary>The programme (section 12): what must be proved by when, spread over days with their capacities, and what the proofs there are show of the whole fleet.</summary>
internal static class DueEndpoint
{
    private const int MostDays = 366, MostCapacity = 10_000, BoundsExplained = 3;

    /// <summary>Something that must be proved: a database against a loss its objective names.</summary>
    /// <param name="DueAt">By when.</param>
    /// <param name="Overdue">Whether there is no proof now that counts.</param>
    /// <param name="ProvenAt">When it was proved last; null when never.</param>
    /// <param name="ByTakingOver">Whether that was by a replica that took over; null when it was never proved.</param>
    /// <param name="Why">Why that proof does not count; null when it does.</param>
    /// <param name="Host">On which host it would be held.</param>
    /// <param name="Day">The day of the calendar; null when no calendar keeps it.</param>
    public sealed record DueRow(string Database, string Name, LossKind Loss, Instant DueAt, bool Overdue, Instant? ProvenAt, bool? ByTakingOver, string? Why, double RtoSeconds, string Host, LocalDate? Day);

    /// <summary>What keeps proofs from being held in time.</summary>
    /// <param name="What">In all, or a site or host.</param>
    /// <param name="Days">On how many days it is full and would be needed.</param>
    /// <param name="Most">How many it takes on one of them.</param>
    /// <param name="WouldNeed">How many it would have to take for all to be kept, others as they are; null when more of it alone does not do it.</param>
    public sealed record BoundView(string What, int Days, int Most, int? WouldNeed);

    /// <summary>What the tests there are show of all databases.</summary>
    /// <param name="Population">How many databases have an objective.</param>
    /// <param name="Tested">How many of them were tested within the days a proof counts.</param>
    /// <param name="Failed">How many of those did not pass.</param>
    /// <param name="AtMostFailing">How many of all fail at most, with that confidence, if those tested were drawn at random.</param>
    /// <param name="Needed">How many tests, all passed, would show that at most the share fails.</param>
    public sealed record ShownView(int Population, int Tested, int Failed, string Confidence, int AtMostFailing, string Share, int Needed);

    /// <summary>A database that was drawn.</summary>
    /// <param name="Passed">How its last test ended; null when it was not tested in time.</param>
    public sealed record DrawnRow(string Database, string Name, bool? Passed);

    /// <summary>The draw of a month.</summary>
    public sealed record DrawView(string Seed, IReadOnlyList<DrawnRow> Drawn);

    public sealed record ProgrammeView(LocalDate From, int Days, int ADay, int InSite, int OnHost, IReadOnlyList<DueRow> Due, IReadOnlyList<BoundView> Bounds, ShownView Shown, DrawView Draw);

    public static void Map(IEndpointRouteBuilder app) => app.MapGet("/api/drills/due", GetAsync).Needs(Roles.Look).Computes().WithName("DrillProgramme");

    private sealed record Item(Core.Fleet.Database Database, LossKind Loss, Instant DueAt, ProofRow? Last, string? Why, double Rto, Id<Core.Fleet.Host> Host);

    private static async Task<Ok<ProgrammeView>> GetAsync(
        int? days, int? aDay, int? inSite, int? onHost, string? confidence, string? share, FleetState state, DesignedState designed, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var (ahead, inAll, site, host) = (Bounded("days", days, 28, MostDays), Bounded("aDay", aDay, 6, MostCapacity), Bounded("inSite", inSite, 4, MostCapacity), Bounded("onHost", onHost, 2, MostCapacity));
        var (c, p) = (ReadShare("confidence", confidence ?? "0.95", open: true), ReadShare("share", share ?? "0.1", open: false));
        var now = clock.GetCurrentInstant();
        var fleet = state.Fleet;
        var proofs = await data.Proofs.AsNoTracking().GroupBy(r => new { r.Database, r.Loss }).Select(g => g.OrderByDescending(r => r.At).First()).ToListAsync(cancel);

        // Any that passed and still counts will do; one that failed since is said beside it.
        var passed = await data.Proofs.AsNoTracking().Where(r => r.Passed).GroupBy(r => new { r.Database, r.Loss }).Select(g => g.OrderByDescending(r => r.At).First()).ToListAsync(cancel);
        var newest = proofs.Concat(passed).GroupBy(r => (r.Database, KindOf(r.Loss))).ToDictionary(g => g.Key, g => g.OrderByDescending(r => r.Passed).ThenByDescending(r => r.At).First());
        Item[] items =
        [
            .. fleet.Databases.Where(d => state.Has(d.Id.Value)).SelectMany(d => fleet.ObjectiveOf(d) is not { } o ? [] : o.Against.Select(l => ItemOf(state[d.Id], d, o, l, newest.GetValueOrDefault((d.Id.Value, l)), designed, now)))
                .OrderBy(i => i.DueAt).ThenBy(i => i.Rto),
        ];
        var first = now.InUtc().Date;
        var pauses = (await data.Pauses.AsNoTracking().Where(x => x.Plan == null && x.Database == null && x.Store == null && (x.To == null || x.To > now)).ToListAsync(cancel)).ToArray();
        var (hosts, sites) = (items.Select(i => i.Host).Distinct().OrderBy(h => h.Value).ToArray(), fleet.SiteList.Select(s => s.Id).ToArray());
        var hostIndex = hosts.Index().ToDictionary(h => h.Item, h => h.Index);
        Item[] within = [.. items.Where(i => DayOf(i.DueAt) < ahead)];
        var calendar = ProofCalendar.Of(new(
            ahead,
            [.. within.Select(i => new ProofCalendar.Proof(hostIndex[i.Host], Math.Max(0, DayOf(i.DueAt))))],
            [.. hosts.Select(h => Array.IndexOf(sites, fleet.Hosts[h].Site))],
            _ => inAll,
            (_, _) => site,
            (h, d) => pauses.Any(x => (x.Host == null || x.Host == hosts[h].Value) && Covers(x, d)) ? 0 : host));
        var dayOf = within.Select((_, n) => calendar.DayOf(n)).ToArray();
        return TypedResults.Ok(new ProgrammeView(
            first,
            ahead,
            inAll,
            site,
            host,
            [.. items.Select((i, n) => new DueRow(
                i.Database.Id.Value, i.Database.Name, i.Loss, i.DueAt, i.DueAt <= now, i.Last?.At, i.Last?.TookOver, i.Why, i.Rto, i.Host.Value, n < dayOf.Length && dayOf[n] is { } day ? first.PlusDays(day) : null))],
            [.. calendar.Bounds.Take(BoundsExplained).Select(b => new BoundView(b.Host is { } h ? $"host {hosts[h]}" : b.Site is { } s ? $"site {sites[s]}" : "a day in all", b.Days, b.Most, calendar.WouldNeed(b)))],
            Shown(fleet, proofs, now, confidence ?? "0.95", c, share ?? "0.1", p, out var tested),
            Drawn(fleet, tested, now, Confidence.Needed(Math.Max(1, fleet.Databases.Count(d => fleet.ObjectiveOf(d) is not null)), c, p))));

        int DayOf(Instant at) => Period.DaysBetween(first, at.InUtc().Date);

        // A day counts as closed where a pause holds at its noon.
        bool Covers(PauseRow pause, int day) => first.PlusDays(day).At(new LocalTime(12, 0)).InUtc().ToInstant() is var noon && pause.From <= noon && (pause.To is not { } to || noon < to);
    }

    private static Item ItemOf(DatabaseState db, Core.Fleet.Database d, Objective o, LossKind loss, ProofRow? last, DesignedState designed, Instant now)
    {
        var why = Judgement.WhyInvalid(d, o, last is null ? null : new Proof(last.At, last.LostSeconds, last.ServiceSeconds, last.Passed, last.SizeBytes, last.Version), now, designed.PlanChanged(d));
        var due = why is null ? last!.At + Duration.FromDays(o.ProofDays) : now;
        var way = db.Observe(Loss.OfKind(loss), now, now: true).Figures.Path;
        return new(d, loss, due, last, last is null ? "never proved" : why, o.RtoSeconds, way?.Host ?? (d.RecoveryHosts.Count > 0 ? d.RecoveryHosts[0] : d.Host));
    }

    private static ShownView Shown(FleetModel fleet, List<ProofRow> proofs, Instant now, string confidence, DecimalShare c, string share, DecimalShare p, out IReadOnlyDictionary<string, bool> tested)
    {
        var last = proofs.GroupBy(r => r.Database).ToDictionary(g => g.Key, g => g.MaxBy(r => r.At)!);
        Core.Fleet.Database[] all = [.. fleet.Databases.Where(d => fleet.ObjectiveOf(d) is not null)];
        var found = new Dictionary<string, bool>();
        foreach (var d in all)
        {
            if (last.GetValueOrDefault(d.Id.Value) is { } r && (now - r.At).TotalDays <= fleet.ObjectiveOf(d)!.ProofDays)
            {
                found[d.Id.Value] = r.Passed;
            }
        }

        tested = found;
        var (population, failed) = (Math.Max(1, all.Length), found.Values.Count(x => !x));
        return new(all.Length, found.Count, failed, confidence, all.Length == 0 ? 0 : Confidence.AtMostFailing(population, found.Count, failed, c), share, Confidence.Needed(population, c, p));
    }

    /// <summary>The draw of the month: its seed is the month, so that anybody can repeat it and nobody picks.</summary>
    private static DrawView Drawn(FleetModel fleet, IReadOnlyDictionary<string, bool> tested, Instant now, int count)
    {
        var seed = now.InUtc().ToString("yyyyMM", CultureInfo.InvariantCulture);
        var names = fleet.Databases.Where(d => fleet.ObjectiveOf(d) is not null).Select(d => d.Id.Value);
        return new(seed, [.. Sample.Of(names, count, ulong.Parse(seed, CultureInfo.InvariantCulture)).Select(n => new DrawnRow(n, fleet.DatabaseById[new(n)].Name, tested.TryGetValue(n, out var passed) ? passed : null))]);
    }

    private static LossKind KindOf(string loss) => Enum.TryParse<LossKind>(loss.Split(':')[0], ignoreCase: true, out var kind) ? kind : LossKind.None;

    private static int Bounded(string member, int? value, int usual, int most) => value is null ? usual : value is >= 1 && value <= most ? value.Value : throw new BadInputException(member, $"must be 1 to {most}");

    private static DecimalShare ReadShare(string member, string text, bool open) =>
        DecimalShare.TryParse(text, out var share) && share.Over <= share.Under && (!open || (!share.Over.IsZero && share.Over < share.Under)) ? share : throw new BadInputException(member, open ? "must be above 0 and below 1" : "must be 0 to 1");
}
