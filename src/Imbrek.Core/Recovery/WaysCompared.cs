using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>One way for one question, with what it costs and leaves (ways, section 7).</summary>
public sealed record WayCompared
{
    /// <summary>Which way: <c>aside</c>, <c>inPlace</c>, <c>takeOver</c>, <c>underAnotherName</c>, <c>view</c>, <c>clone</c> or <c>openForLog</c>.</summary>
    public required string Way { get; init; }

    /// <summary>The replica that takes over; null for a way by sets.</summary>
    public Id<Replica>? Replica { get; init; }

    /// <summary>Whether the service is back by it; otherwise rows are, for those who look.</summary>
    public bool GivesService { get; init; }

    /// <summary>Where.</summary>
    public Id<Host>? Host { get; init; }

    /// <summary>The instant it reaches.</summary>
    public Instant? Reaches { get; init; }

    /// <summary>Target − reached, seconds.</summary>
    public double? LostSeconds { get; init; }

    /// <summary>Until the first look at what it holds, seconds from when it is begun.</summary>
    public double? UsableSeconds { get; init; }

    /// <summary>Until the service is back, seconds from the loss; null where it gives none.</summary>
    public double? ServiceSeconds { get; init; }

    /// <summary>Room it takes on its host, bytes.</summary>
    public long? RoomBytes { get; init; }

    /// <summary>Bytes read from stores and moved to its host.</summary>
    public long? MovedBytes { get; init; }

    /// <summary>The links it loads, each as "one to other".</summary>
    public IReadOnlyList<string> Links { get; init; } = [];

    /// <summary>What is as it was.</summary>
    public IReadOnlyList<string> Keeps { get; init; } = [];

    /// <summary>What has to be made or done again.</summary>
    public IReadOnlyList<string> KeepsNot { get; init; } = [];

    /// <summary>What cannot be done any more, or not as before, once it is done.</summary>
    public string Afterwards { get; init; } = "";

    /// <summary>What it is good for, in a sentence.</summary>
    public string Why { get; init; } = "";

    /// <summary>Why it cannot be; null when it can.</summary>
    public string? WhyNot { get; init; }
}

/// <summary>Every way back that a database has for one instant and one loss, side by side (ways, section 7).</summary>
public static class WaysCompared
{
    /// <summary>What the drivers of a database can do.</summary>
    /// <param name="WholeInstance">Whether what is restored is a whole instance, with accounts, settings and jobs.</param>
    /// <param name="WhyNotInPlace">Why nothing is put back in place; null when it is.</param>
    /// <param name="WhyNoView">Why nothing is opened for reading; null when it is.</param>
    /// <param name="WhyNoClone">Why no clones are made; null when they are.</param>
    /// <param name="WhyNotLeftOpen">Why nothing is left open for log; null when it is.</param>
    /// <param name="WhyNoSecond">Why no second database is made; null when one is.</param>
    public sealed record Abilities(bool WholeInstance, string? WhyNotInPlace, string? WhyNoView, string? WhyNoClone, string? WhyNotLeftOpen, string? WhyNoSecond);

    private static readonly string[] Order = ["takeOver", "aside", "inPlace", "underAnotherName", "view", "clone", "openForLog"];

    /// <summary>The ways: those by which the service is back before those by which rows are, and of each the one that loses least and, among those, is usable soonest before the others; what cannot be comes last.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="question">What is asked.</param>
    /// <param name="loss">The loss supposed, resolved.</param>
    /// <param name="can">What its drivers can do.</param>
    public static IReadOnlyList<WayCompared> Of(RecoverySubject subject, PathQuestion question, Loss loss, Abilities can)
    {
        var d = subject.Database;
        var aside = PathFinder.Find(subject, question);
        var inPlace = can.WhyNotInPlace is null ? PathFinder.Find(subject, question with { Choice = question.Choice with { Host = d.Host } }) : null;
        var view = can.WhyNoView is null ? PathFinder.Find(subject, question with { Mounted = true }) : null;
        var left = can.WhyNotLeftOpen is null ? PathFinder.Find(subject, question with { Unopened = true }) : null;
        var mounts = subject.Fleet.Engines[d.Engine].MountsSets;
        string[] instance = can.WholeInstance ? [] : ["accounts, settings, jobs"];
        List<WayCompared> ways =
        [
            By("aside", aside.Best, aside.Reason, mounted: false) with
            {
                GivesService = true,
                Keeps = ["what is there now"],
                KeepsNot = instance,
                Afterwards = "clients go to another address; it has no plan of its own",
                Why = "to look first, or when its own host is gone",
            },
            By("inPlace", inPlace?.Best, can.WhyNotInPlace ?? inPlace?.Reason, mounted: false) with
            {
                GivesService = true,
                Keeps = ["address, accounts, jobs, plan"],
                KeepsNot = ["what came since, which is saved first"],
                Afterwards = "a new branch begins; replicas that hold more no longer follow",
                Why = "when what is there is worth less than what was",
            },
            By("underAnotherName", can.WhyNoSecond is null ? aside.Best : null, can.WhyNoSecond ?? aside.Reason, mounted: false) with
            {
                Keeps = ["what is there now"],
                KeepsNot = [.. instance, "names that clash, which are mapped first"],
                Afterwards = "two of it: the second has a plan and a first backup of its own",
                Why = "to keep both, side by side",
            },
            By("view", view?.Best, can.WhyNoView ?? view?.Reason, mounted: mounts) with
            {
                Keeps = ["what is there now"],
                KeepsNot = mounts ? ["its speed: it is read from its store"] : instance,
                Afterwards = "its sets stay until its end",
                Why = mounts ? "for a table or a few rows: log alone is moved" : "for a table or a few rows; its family moves all for it",
            },
            By("clone", can.WhyNoClone is null ? aside.Best : null, can.WhyNoClone ?? aside.Reason, mounted: false) with
            {
                Keeps = ["what is there now"],
                KeepsNot = [.. instance, "what is masked"],
                Afterwards = "it goes on its day, with all written to it",
                Why = "to try something on real data, for named hosts alone",
            },
            By("openForLog", left?.Best, can.WhyNotLeftOpen ?? left?.Reason, mounted: false) with
            {
                Keeps = ["what is there now", "the next minutes: further log can be applied"],
                KeepsNot = instance,
                Afterwards = "nobody gets in until it is opened; from then on it takes no log",
                Why = "to have it nearly there before it is needed",
            },
            .. TakeOver.Each(subject, question, loss).Select(t => new WayCompared
            {
                Way = "takeOver",
                Replica = t.Replica.Id,
                GivesService = true,
                Host = t.Way?.Host,
                Reaches = t.Way?.Reaches,
                LostSeconds = t.Way?.LostSeconds,
                UsableSeconds = t.Way?.Seconds,
                ServiceSeconds = t.Way?.ServiceSeconds,
                RoomBytes = t.Way is null ? null : 0,
                MovedBytes = t.Way is null ? null : 0,
                Keeps = ["indexes, statistics, warm data"],
                KeepsNot = ["what it had not received"],
                Afterwards = "it lives elsewhere; another replica is needed",
                Why = t.Way is not { } over ? "" : $"when the primary is lost and not the data{(over.ByItself ? "; it does so by itself" : "")}{(over.WorkSeconds < 0.05 ? "" : $"; {PlainDuration.Of(over.WorkSeconds)} of it to apply or go back")}",
                WhyNot = t.WhyNot,
            }),
        ];
        return [.. ways.OrderBy(w => w.WhyNot is not null).ThenBy(w => !w.GivesService).ThenBy(w => w.LostSeconds ?? double.PositiveInfinity).ThenBy(w => w.ServiceSeconds ?? w.UsableSeconds ?? double.PositiveInfinity).ThenBy(w => Array.IndexOf(Order, w.Way))];

        WayCompared By(string way, RestorePath? path, string? whyNot, bool mounted)
        {
            if (path is null)
            {
                return new WayCompared { Way = way, WhyNot = whyNot ?? "there is nothing to restore from" };
            }

            var (moved, links) = (0L, new HashSet<string>());
            var to = subject.Fleet.Hosts[path.Host].Site;
            foreach (var s in path.Steps)
            {
                var (from, sameArray) = (subject.Fleet.Stores[s.Store], s.Kind == SetKind.Snapshot && subject.Fleet.Stores[s.Store].Array is { } a && subject.Fleet.Hosts[path.Host].Array == a);
                if (!sameArray && (!mounted || s.Kind == SetKind.Log))
                {
                    moved += s.StoredBytes;
                }

                if (!sameArray && from.Site != to)
                {
                    links.Add($"{from.Site} to {to}");
                }
            }

            return new WayCompared
            {
                Way = way,
                Host = path.Host,
                Reaches = path.Reaches,
                LostSeconds = path.LostSeconds,
                UsableSeconds = path.Seconds - (way == "openForLog" ? path.OpenSeconds : 0),
                ServiceSeconds = way is "aside" or "inPlace" ? path.ServiceSeconds : null,
                RoomBytes = mounted ? 0 : d.SizeBytes,
                MovedBytes = moved,
                Links = [.. links],
            };
        }
    }
}
