using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Change;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Changes;

/// <summary>What a rehearsal of a change, or a change day, would be: the same for who looks at it first and for who begins it.</summary>
internal static class ChangePlanning
{
    /// <summary>How far away the end of a window may lie, and how long it is watched at most.</summary>
    private static readonly Duration LongestWindow = Duration.FromDays(7), LongestWatch = Duration.FromDays(1);

    /// <summary>How long somebody who waits for a page waits for a database to say whether a change can be carried out on it.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    /// <summary>A rehearsal as it would be.</summary>
    public sealed record Rehearsal(RestorePath Path, IReadOnlyList<string> NotTested, RunRow Row);

    /// <summary>A change day as it would be.</summary>
    /// <param name="WayBackSeconds">How long turning back takes.</param>
    /// <param name="LastTurn">The last moment to turn back.</param>
    /// <param name="Warnings">What speaks against it.</param>
    public sealed record Day(double WayBackSeconds, Instant LastTurn, IReadOnlyList<string> Warnings, RunRow Row);

    /// <exception cref="BadInputException">It names what cannot be.</exception>
    public static Rehearsal OfRehearsal(Change change, ChangeForecast? forecast, string? database, string? host, FleetState state, Drivers drivers, Instant now, string who)
    {
        var (db, family) = Of(change, database, state, drivers);
        var (s, d) = (db.Subject, db.Subject.Database);
        if (host is not null && !s.Fleet.Hosts.ContainsKey(new(host)))
        {
            throw new BadInputException("host", $"there is no host '{InputBounds.Quote(host)}'");
        }

        var answer = PathFinder.Find(s, new PathQuestion { Target = now, At = now, Loss = Loss.None, Choice = new(host is null ? null : new(host)), Learned = db.Learned });
        if (answer.Best is not { } path)
        {
            throw new BadInputException("host", answer.Reason!, 409, "no-path");
        }

        var at = s.Fleet.Hosts[path.Host];
        if (change.ToVersion is { } version && at.Versions.Count > 0 && !at.Versions.Contains(version))
        {
            throw new BadInputException("host", $"version {version} is not installed on {at.Id}", 409, "no-version");
        }

        if (Prechecks.Of(s, at, path, Loss.None, now).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}").ToArray() is { Length: > 0 } failed)
        {
            throw new BadInputException("host", string.Join("; ", failed), 409, "precheck-failed");
        }

        var asked = new RestoreQuestion(Loss.None.ToString(), now, null, null, null, path.Host.Value, $"change-{Guid.CreateVersion7():n}"[..19], RestoreQuestion.Promise.Of(path), Change: change);
        var row = NewRuns.Row(RehearseChangeKind.KindName, d.Id.Value, family.Name, asked, Run.Of(new RunPlan(ChangeSteps.Rehearsal(d, path, asked.Instance, change, forecast))), who, now);
        row.Claim = asked.Claim;
        return new(path, NotTested.Of(s, change, at, family.RestoresInstances), row);
    }

    /// <exception cref="BadInputException">It names what cannot be.</exception>
    public static async Task<Day> OfDayAsync(
        Change change, ChangeForecast? forecast, IReadOnlyList<ChangeBook.Rehearsed> rehearsals, string? database, Instant? windowEnd, double? watchSeconds, FleetState state, Drivers drivers, Instant now, string who, CancellationToken cancel)
    {
        var (db, family) = Of(change, database, state, drivers);
        var (s, d) = (db.Subject, db.Subject.Database);
        if (windowEnd is not { } ends || ends <= now || ends > now + LongestWindow)
        {
            throw new BadInputException("windowEnd", windowEnd is null ? "say when the window ends" : windowEnd <= now ? "has passed" : $"at most {LongestWindow.Days} days from now");
        }

        var watch = watchSeconds ?? 600;
        if (!double.IsFinite(watch) || watch < 0 || watch > LongestWatch.TotalSeconds)
        {
            throw new BadInputException("watchSeconds", $"0 to {LongestWatch.TotalSeconds:0} seconds");
        }

        if (family.WhyNotInPlace(d, null) is { } no)
        {
            throw new BadInputException("database", $"{no}: there would be no way back", 409, "not-in-place");
        }

        if (change.ToVersion is { } version && s.Fleet.Hosts[d.Host] is { Versions.Count: > 0 } at && !at.Versions.Contains(version))
        {
            throw new BadInputException("database", $"version {version} is not installed on {at.Id}", 409, "no-version");
        }

        if (RestoreInPlace.Saves(s.Fleet, d) is not { } saves)
        {
            throw new BadInputException("database", "no plan says where a recovery point would go", 409, "no-plan");
        }

        var back = PathFinder.Find(s, new PathQuestion { Target = now, At = now, Loss = Loss.None, Choice = new(d.Host), Learned = db.Learned });
        if (back.Best is not { } path)
        {
            throw new BadInputException("database", $"it could not be put back: {back.Reason}", 409, "no-path");
        }

        var (inTheWay, mute) = family.Here ? await DriverAnswer.WithinAsync(Patience, async c => await family.Change!.WhyNotAsync(d.Id, change, c) ?? "", cancel) : default;
        if (!string.IsNullOrEmpty(inTheWay))
        {
            throw new BadInputException("database", inTheWay, 409, "not-now");
        }

        // Detecting and deciding are over by then: people stand beside it.
        var wayBack = path.Seconds + d.CheckSeconds + d.RedirectSeconds;
        var lastTurn = ends - Duration.FromSeconds(wayBack);
        var warnings = new List<string>();
        if (mute is not null)
        {
            warnings.Add($"whether it could be carried out is not known: {mute}");
        }

        if (forecast is null)
        {
            warnings.Add(rehearsals.Count == 0 ? "it was never rehearsed on this database: nobody knows how long it takes, nor what it breaks" : "only an older script of it was rehearsed on this database");
        }
        else if (rehearsals.First(r => r.Same).Result.Differences.Where(x => x.Broke).ToArray() is { Length: > 0 } broke)
        {
            warnings.Add($"its last rehearsal broke {string.Join(", ", broke.Select(b => b.What).Take(5))}");
        }

        if (lastTurn <= now)
        {
            warnings.Add($"turning back takes {PlainDuration.Of(wayBack)}, longer than the window: once begun there is no way back within it");
        }
        else if (forecast is not null && now + Duration.FromSeconds(forecast.To + (2 * d.CheckSeconds)) > lastTurn)
        {
            warnings.Add($"it may take {PlainDuration.Of(forecast.To)}: if it is found bad at its end, it is too late to turn back within the window");
        }

        if (change.ToVersion is not null && s.Replicas.Count > 0)
        {
            warnings.Add($"{s.Replicas.Count} {(s.Replicas.Count == 1 ? "replica does" : "replicas do")} not follow to another version: until they are seeded anew, nothing can take over");
        }

        var first = Promoting.FirstBaseOf(s.Fleet, d);
        if (change.ToVersion is not null && first is null)
        {
            warnings.Add("no plan takes a full of it: after the move nothing that was backed up leads on");
        }

        var question = new ChangeDayKind.Question(change, ends, watch, wayBack, lastTurn, forecast);
        var row = NewRuns.Row(ChangeDayKind.KindName, d.Id.Value, family.Name, question, Run.Of(new RunPlan(ChangeSteps.Day(d, change, saves, first, forecast, watch, (ends - now).TotalSeconds))), who, now);

        // Meanwhile nothing takes over, is drilled or put back but by this.
        row.Claim = TakeOverKind.ClaimOf(s.Fleet, d.Id);
        return new(wayBack, lastTurn, warnings, row);
    }

    private static (DatabaseState Db, IDriverFamily Family) Of(Change change, string? database, FleetState state, Drivers drivers)
    {
        var db = state[database ?? ""];
        var d = db.Subject.Database;
        if (d.Engine != change.Engine)
        {
            throw new BadInputException("database", $"{d.Name} is of {d.Engine}; the change is written for {change.Engine}");
        }

        if (change.ToVersion is { } version && version == d.Version)
        {
            throw new BadInputException("database", $"{d.Name} runs version {version} already", 409, "runs-it");
        }

        var family = drivers.For(d);
        return family.WhyNoChange(change) is { } whyNot ? throw new BadInputException("database", whyNot, 409, "no-driver") : (db, family);
    }
}
