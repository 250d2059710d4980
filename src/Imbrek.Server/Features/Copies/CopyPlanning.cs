using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Copies;

/// <summary>What a view, clones, or what is left open for log, of a database would be: the same for who looks at it first and for who has it made.</summary>
internal static class CopyPlanning
{
    private const int LongestName = 200;

    /// <summary>What is asked for.</summary>
    /// <param name="As"><c>view</c>, <c>clone</c> or <c>open-for-log</c>.</param>
    /// <param name="Target">The instant wanted; null for the newest.</param>
    /// <param name="Host">Where it stands; null for the first recovery host that qualifies.</param>
    /// <param name="Hosts">Who is let in; a clone names at least one.</param>
    /// <param name="Count">How many clones; null for one.</param>
    /// <param name="Mask">The statements that mask a clone, each on a line of its own.</param>
    /// <param name="Until">When it ends.</param>
    /// <param name="Name">What it is called; a number follows where there are several. Null for a name after the database.</param>
    /// <param name="Query">A query to check it with; null for none.</param>
    /// <param name="Stays">Whether its end is told of only, and people remove it.</param>
    /// <param name="MoreOpenBecause">Why it may be more open than its source, where it is; null where nobody said.</param>
    /// <param name="EverySeconds">Of what is left open for log: how often log is applied; of a clone: how often it is refreshed; null for by hand, or never.</param>
    /// <param name="Settings">When settings of its host are changed that it needs: <c>now</c> or <c>window</c>; null where it needs none.</param>
    public sealed record CopyRequest(
        string Database, string As, Instant? Target, string? Loss, string? Host, IReadOnlyList<string>? Hosts, int? Count, IReadOnlyList<string>? Mask, Instant? Until, string? Name, string? Query, bool? Stays, double? EverySeconds, string? MoreOpenBecause = null, string? Settings = null);

    /// <summary>What it comes to.</summary>
    /// <param name="Path">The way to it.</param>
    /// <param name="Mounted">Whether its sets are opened where they lie.</param>
    /// <param name="Names">The names of the instances.</param>
    /// <param name="RoomBytes">Room they take together.</param>
    /// <param name="MovedBytes">Bytes read for them together.</param>
    /// <param name="MoreOpen">In what it is more open than its source: it is made only where somebody says why.</param>
    /// <param name="Rows">The runs that make them, not begun.</param>
    public sealed record Planned(RestorePath Path, bool Mounted, IReadOnlyList<string> Names, long RoomBytes, long MovedBytes, IReadOnlyList<string> MoreOpen, IReadOnlyList<RunRow> Rows);

    /// <exception cref="BadInputException">It names what cannot be.</exception>
    public static Planned Of(CopyRequest request, FleetState state, Drivers drivers, SettingsAsked settings, Instant now, string who)
    {
        var db = state[request.Database ?? ""];
        var (s, d) = (db.Subject, db.Subject.Database);
        var use = request.As switch
        {
            TemporaryCopyKind.View => CopyUse.View,
            TemporaryCopyKind.Clone => CopyUse.Clone,
            TemporaryCopyKind.LeftOpen => CopyUse.LeftOpen,
            _ => throw new BadInputException("as", $"'{InputBounds.Quote(request.As ?? "")}' is none of {TemporaryCopyKind.View}, {TemporaryCopyKind.Clone}, {TemporaryCopyKind.LeftOpen}"),
        };
        var (view, clone, leftOpen) = (use == CopyUse.View, use == CopyUse.Clone, use == CopyUse.LeftOpen);
        var (hosts, mask) = ((request.Hosts ?? []).Select(h => (h ?? "").Trim()).ToArray(), (request.Mask ?? []).Select(m => (m ?? "").Trim()).Where(m => m.Length > 0).ToArray());
        var count = request.Count ?? 1;
        if (hosts.Length > TemporaryCopy.MostHosts || hosts.Distinct().Count() != hosts.Length)
        {
            throw new BadInputException("hosts", hosts.Length > TemporaryCopy.MostHosts ? $"at most {TemporaryCopy.MostHosts} can be named" : "one is named twice");
        }

        for (var i = 0; i < hosts.Length; i++)
        {
            if (!s.Fleet.Hosts.ContainsKey(new(hosts[i])))
            {
                throw new BadInputException($"hosts[{i}]", $"there is no host '{InputBounds.Quote(hosts[i])}'");
            }
        }

        if (leftOpen && hosts.Length > 0)
        {
            throw new BadInputException("hosts", "nobody gets into what is left open for log");
        }

        var shortest = clone ? TemporaryCopy.ShortestRefresh : TemporaryCopy.ShortestLogRound;
        if (request.EverySeconds is { } every && (view || !double.IsFinite(every) || every < shortest.TotalSeconds || every > TemporaryCopy.LongestRound.TotalSeconds))
        {
            throw new BadInputException("everySeconds", view ? "a view stays as it is" : $"{shortest.TotalSeconds:0} to {TemporaryCopy.LongestRound.TotalSeconds:0} seconds");
        }

        if (clone && hosts.Length == 0)
        {
            throw new BadInputException("hosts", "name who may use it: nobody else is let in");
        }

        if (count < 1 || count > (clone ? TemporaryCopy.MostClones : 1))
        {
            throw new BadInputException("count", !clone ? "it is one" : $"1 to {TemporaryCopy.MostClones} can be made at once");
        }

        if (mask.Length > TemporaryCopy.MostStatements || (!clone && mask.Length > 0))
        {
            throw new BadInputException("mask", !clone ? "it changes nothing, and so masks nothing: make a clone" : $"at most {TemporaryCopy.MostStatements} statements");
        }

        for (var i = 0; i < mask.Length; i++)
        {
            if (InputBounds.WhatIsWrong(mask[i], InputBounds.Reason, lines: true) is { } wrong)
            {
                throw new BadInputException($"mask[{i}]", wrong);
            }
        }

        if (request.Query is { } query && InputBounds.WhatIsWrong(query, InputBounds.Reason, lines: true) is { } badQuery)
        {
            throw new BadInputException("query", badQuery);
        }

        if (request.Until is not { } until)
        {
            throw new BadInputException("until", "say when it ends");
        }

        if (TemporaryCopy.WhatIsWrongWithEnd(until, now) is { } wrongEnd)
        {
            throw new BadInputException("until", wrongEnd);
        }

        var target = request.Target ?? now;
        if (target > now)
        {
            throw new BadInputException("target", "lies in the future");
        }

        if (request.Host is { } host && !s.Fleet.Hosts.ContainsKey(new(host)))
        {
            throw new BadInputException("host", $"there is no host '{InputBounds.Quote(host)}'");
        }

        var loss = Premise.Read(request.Loss, null, state.Fleet, now).Loss.For(d, s.Fleet);
        var mounted = view && s.Fleet.Engines[d.Engine].MountsSets;
        var answer = PathFinder.Find(s, new PathQuestion { Target = target, At = now, Loss = loss, Choice = new(request.Host is null ? null : new(request.Host)), Learned = db.Learned, Mounted = mounted, Unopened = leftOpen });
        if (answer.Best is not { } path)
        {
            throw new BadInputException(request.Host is null ? "target" : "host", answer.Reason!, 409, "no-path");
        }

        path = path with { Needs = settings.Answered(path.Needs, request.Settings) };
        var room = mounted ? 0 : count * d.SizeBytes;
        var at = s.Fleet.Hosts[path.Host];
        var failed = Prechecks.Of(s, at, path, loss, now).Where(c => c.Outcome == PrecheckOutcome.Failed && !(mounted && c.Name == Prechecks.Room)).Select(c => $"{c.Name}: {c.Detail}").ToList();
        if (at.FreeBytes is { } free && free < room && count > 1)
        {
            failed.Add($"{Prechecks.Room}: {free} bytes free on {at.Id}, {room} are needed for {count}");
        }

        if (failed.Count > 0)
        {
            throw new BadInputException("host", string.Join("; ", failed), 409, "precheck-failed");
        }

        var family = drivers.For(d);
        if (family.WhyNoCopy(use, hosts.Length > 0) is { } whyNot)
        {
            throw new BadInputException("as", whyNot, 409, "no-driver");
        }

        if (family.WhyNotOn(path.Host) is { } notThere)
        {
            throw new BadInputException("host", notThere, 409, "not-now");
        }

        for (var i = 0; i < hosts.Length; i++)
        {
            if (family.WhyNotLetIn(s.Fleet.Hosts[new(hosts[i])]) is { } whyOut)
            {
                throw new BadInputException($"hosts[{i}]", whyOut, 409, "not-now");
            }
        }

        if (family.WhyNoMask(mask) is { } whyNoMask)
        {
            throw new BadInputException("mask", whyNoMask);
        }

        var name = string.IsNullOrWhiteSpace(request.Name) ? $"{d.Id}-{request.As}-{Guid.CreateVersion7():n}"[..Math.Min(LongestName, d.Id.Value.Length + request.As.Length + 10)] : request.Name.Trim();
        if (InputBounds.WhatIsWrongWithId(name, LongestName) is { } badName)
        {
            throw new BadInputException("name", badName);
        }

        string[] names = [.. Enumerable.Range(1, count).Select(i => count == 1 ? name : $"{name}-{i}")];
        var rows = names.Select(instance =>
        {
            var asked = new RestoreQuestion(
                loss.ToString(), target, null, string.IsNullOrWhiteSpace(request.Query) ? null : request.Query, null, path.Host.Value, instance, RestoreQuestion.Promise.Of(path), Mounted: mounted, Hosts: hosts, Mask: mask, Stays: request.Stays ?? false, EverySeconds: request.EverySeconds, Settings: request.Settings);
            var steps = use switch
            {
                CopyUse.View => TemporaryCopy.View(d, path, instance, hosts, until, mounted),
                CopyUse.Clone => TemporaryCopy.Clone(d, path, instance, hosts, mask, until),
                _ => TemporaryCopy.LeftOpen(d, path, instance),
            };
            var row = NewRuns.Row(request.As, d.Id.Value, family.Name, asked, Run.Of(new RunPlan(steps)), who, now);
            (row.Claim, row.Until) = (asked.Claim, until);
            return row;
        }).ToArray();

        // Named hosts alone get in; what is left open for log lets nobody in, and is looked at again before it is released.
        var open = leftOpen ? [] : MoreOpen.Of(s.Fleet, d.Id.Value, path.Host.Value, byRule: true);
        if (request.MoreOpenBecause is { } because && InputBounds.WhatIsWrong(because, InputBounds.Reason) is { } badReason)
        {
            throw new BadInputException("moreOpenBecause", badReason);
        }

        return new(path, mounted, names, room, count * path.Steps.Where(x => !mounted || x.Kind == Core.Catalogue.SetKind.Log).Sum(x => x.StoredBytes), open, rows);
    }
}
