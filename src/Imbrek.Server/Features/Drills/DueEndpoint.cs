using System.Globalization;
using Imbrek.Core.Drills;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Mvc;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Server.Features.Drills;

/// <summary>The programme (section 11): what must be proved by when, spread over days with their capacities, and what the proofs there are show of the whole fleet.</summary>
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
    /// <param name="ByReplica">The replica that would take over; null where sets are restored.</param>
    /// <param name="Day">The day of the calendar, as 2026-11-27: in time where any calendar keeps it, else the first with room; null when there is none.</param>
    public sealed record DueRow(string Database, string Name, LossKind Loss, Instant DueAt, bool Overdue, Instant? ProvenAt, bool? ByTakingOver, string? Why, double RtoSeconds, string Host, string? ByReplica, string? Day);

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

    public sealed record ProgrammeView(string From, int Days, int ADay, int InSite, int OnHost, IReadOnlyList<DueRow> Due, IReadOnlyList<BoundView> Bounds, ShownView Shown, DrawView Draw);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/drills/due", GetAsync).Needs(Roles.Look).Computes().WithName("DrillProgramme");
        app.MapGet("/api/drills/due.ics", CalendarAsync).Needs(Roles.Look).Computes().WithName("DrillCalendar").Produces<string>(200, "text/calendar");
    }

    /// <summary>What is asked, and what is needed to answer.</summary>
    private sealed record Asked(int? Days, int? ADay, int? InSite, int? OnHost, string? Confidence, string? Share, FleetState State, DesignedState Designed, ImbrekContext Data, IClock Clock);

    private sealed record Item(Core.Fleet.Database Database, LossKind Loss, ProofStanding Standing, double Rto, Id<Core.Fleet.Host> Host, string? Replica);

    private static async Task<Ok<ProgrammeView>> GetAsync(
        int? days, int? aDay, int? inSite, int? onHost, string? confidence, string? share, FleetState state, DesignedState designed, ImbrekContext data, IClock clock, CancellationToken cancel) =>
        TypedResults.Ok(await ProgrammeAsync(new(days, aDay, inSite, onHost, confidence, share, state, designed, data, clock), cancel));

    private static async Task<ProgrammeView> ProgrammeAsync(Asked asked, CancellationToken cancel)
    {
        var (days, aDay, inSite, onHost, confidence, share, state, designed, data, clock) = asked;
        var (ahead, inAll, site, host) = (Bounded("days", days, 28, MostDays), Bounded("aDay", aDay, 6, MostCapacity), Bounded("inSite", inSite, 4, MostCapacity), Bounded("onHost", onHost, 2, MostCapacity));
        var (c, p) = (ReadShare("confidence", confidence ?? "0.95", open: true), ReadShare("share", share ?? "0.1", open: false));
        var now = clock.GetCurrentInstant();
        var fleet = state.Fleet;
        var proofs = await data.Proofs.AsNoTracking().GroupBy(r => r.Database).Select(g => g.OrderByDescending(r => r.At).First()).ToListAsync(cancel);
        Item[] items =
        [
            .. fleet.Databases.Where(d => state.Has(d.Id.Value)).AsParallel().AsOrdered().WithCancellation(cancel).SelectMany(d => fleet.ObjectiveOf(d) is not { } o ? [] : o.Against.Select(l => ItemOf(state[d.Id], d, o, l, designed, now)))
                .OrderBy(i => i.Standing.DueAt).ThenBy(i => i.Rto),
        ];
        var first = now.InUtc().Date;
        var pauses = (await data.Pauses.AsNoTracking().Where(x => x.Plan == null && x.Database == null && x.Store == null && (x.To == null || x.To > now)).ToListAsync(cancel)).ToArray();
        var (hosts, sites) = (items.Select(i => i.Host).Distinct().OrderBy(h => h.Value).ToArray(), fleet.SiteList.Select(s => s.Id).ToArray());
        var hostIndex = hosts.Index().ToDictionary(h => h.Item, h => h.Index);
        Item[] within = [.. items.Where(i => DayOf(i.Standing.DueAt) < ahead)];
        int[] siteOf = [.. hosts.Select(h => Array.IndexOf(sites, fleet.Hosts[h].Site))];
        ProofCalendar.Problem problem = new(
            ahead,
            [.. within.Select(i => new ProofCalendar.Proof(hostIndex[i.Host], Math.Max(0, DayOf(i.Standing.DueAt))))],
            siteOf,
            _ => inAll,
            (_, _) => site,
            (h, d) => pauses.Any(x => (x.Host == null || x.Host == hosts[h].Value) && Covers(x, d)) ? 0 : host);
        var calendar = ProofCalendar.Of(problem);
        var dayOf = within.Select((_, n) => calendar.DayOf(n)).ToArray();
        SpreadLate(problem, dayOf);
        return new ProgrammeView(
            LocalDatePattern.Iso.Format(first),
            ahead,
            inAll,
            site,
            host,
            [.. items.Select((i, n) => new DueRow(
                i.Database.Id.Value, i.Database.Name, i.Loss, i.Standing.DueAt, i.Standing.WhyNot is not null, i.Standing.Proof?.At, i.Standing.Proof?.TookOver, i.Standing.WhyNot, i.Rto, i.Host.Value, i.Replica, n < dayOf.Length && dayOf[n] is { } day ? LocalDatePattern.Iso.Format(first.PlusDays(day)) : null))],
            [.. calendar.Bounds.Take(BoundsExplained).Select(b => new BoundView(b.Host is { } h ? $"host {hosts[h]}" : b.Site is { } s ? $"site {sites[s]}" : "a day in all", b.Days, b.Most, calendar.WouldNeed(b)))],
            Shown(fleet, proofs, now, confidence ?? "0.95", c, share ?? "0.1", p, out var tested),
            Drawn(fleet, tested, now, Confidence.Needed(Math.Max(1, fleet.Databases.Count(d => fleet.ObjectiveOf(d) is not null)), c, p)));

        int DayOf(Instant at) => Period.DaysBetween(first, at.InUtc().Date);

        // A day counts as closed where a pause holds at its noon.
        bool Covers(PauseRow pause, int day) => first.PlusDays(day).At(new LocalTime(12, 0)).InUtc().ToInstant() is var noon && pause.From <= noon && (pause.To is not { } to || noon < to);
    }

    /// <summary>The same as a calendar of RFC 5545, so that people are told beforehand.</summary>
    private static async Task<FileContentHttpResult> CalendarAsync(
        int? days, int? aDay, int? inSite, int? onHost, string? confidence, string? share, FleetState state, DesignedState designed, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var programme = await ProgrammeAsync(new(days, aDay, inSite, onHost, confidence, share, state, designed, data, clock), cancel);
        var calendar = new Ical.Net.Calendar { ProductId = "-//Imbrek//Drills//EN" };
        foreach (var d in programme.Due.Where(d => d.Day is not null))
        {
            var day = LocalDatePattern.Iso.Parse(d.Day!).Value;
            calendar.Events.Add(new Ical.Net.CalendarComponents.CalendarEvent
            {
                Uid = $"proof-{d.Database}-{d.Loss}@imbrek".ToLowerInvariant(),
                Summary = $"Prove {d.Name} {Loss.OfKind(d.Loss).Clause}, on {d.Host}",
                Start = new Ical.Net.DataTypes.CalDateTime(day.Year, day.Month, day.Day),
                Description = d.Why is { } why ? $"Now: {why}." : $"The proof that counts runs out on {LocalDatePattern.Iso.Format(d.DueAt.InUtc().Date)}.",
            });
        }

        return TypedResults.File(System.Text.Encoding.UTF8.GetBytes(new Ical.Net.Serialization.CalendarSerializer().SerializeToString(calendar) ?? ""), "text/calendar", "proofs.ics");
    }

    /// <summary>What no calendar holds in time is held as soon as there is room for it.</summary>
    private static void SpreadLate(ProofCalendar.Problem problem, int?[] dayOf)
    {
        int[] late = [.. Enumerable.Range(0, dayOf.Length).Where(n => dayOf[n] is null)];
        var (inAll, inSite, onHost) = (new int[problem.Days], new Dictionary<(int, int), int>(), new Dictionary<(int, int), int>());
        for (var n = 0; n < dayOf.Length; n++)
        {
            if (dayOf[n] is { } day)
            {
                var host = problem.Proofs[n].Host;
                inAll[day]++;
                inSite[(problem.SiteOfHost[host], day)] = inSite.GetValueOrDefault((problem.SiteOfHost[host], day)) + 1;
                onHost[(host, day)] = onHost.GetValueOrDefault((host, day)) + 1;
            }
        }

        var rest = ProofCalendar.Of(problem with
        {
            Proofs = [.. late.Select(n => new ProofCalendar.Proof(problem.Proofs[n].Host, problem.Days - 1))],
            InAll = d => problem.InAll(d) - inAll[d],
            InSite = (s, d) => problem.InSite(s, d) - inSite.GetValueOrDefault((s, d)),
            OnHost = (h, d) => Math.Max(0, (problem.OnHost(h, d) ?? 0) - onHost.GetValueOrDefault((h, d))),
        });
        for (var n = 0; n < late.Length; n++)
        {
            dayOf[late[n]] = rest.DayOf(n);
        }
    }

    private static Item ItemOf(DatabaseState db, Core.Fleet.Database d, Objective o, LossKind loss, DesignedState designed, Instant now)
    {
        var way = db.Observe(Loss.OfKind(loss), now, now: true).Figures.Path;
        return new(d, loss, db.Standing(loss, now, designed)!, o.RtoSeconds, way?.Host ?? (d.RecoveryHosts.Count > 0 ? d.RecoveryHosts[0] : d.Host), (way as TakeOver)?.Replica.Value);
    }

    private static ShownView Shown(FleetModel fleet, List<ProofRow> proofs, Instant now, string confidence, DecimalShare c, string share, DecimalShare p, out IReadOnlyDictionary<string, bool> tested)
    {
        var last = proofs.ToDictionary(r => r.Database);
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

    private static int Bounded(string member, int? value, int usual, int most) => value is null ? usual : value is >= 1 && value <= most ? value.Value : throw new BadInputException(member, $"must be 1 to {most}");

    private static DecimalShare ReadShare(string member, string text, bool open) =>
        DecimalShare.TryParse(text, out var share) && share.Over <= share.Under && (!open || (!share.Over.IsZero && share.Over < share.Under)) ? share : throw new BadInputException(member, open ? "must be above 0 and below 1" : "must be 0 to 1");
}
