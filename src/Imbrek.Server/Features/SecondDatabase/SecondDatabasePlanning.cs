using System.Text.Json.Nodes;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Moves;
using Imbrek.Server.Features.NewDatabase;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.SecondDatabase;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.SecondDatabase;

/// <summary>What a second database of one would be: the same for who looks at it first and for who has it made.</summary>
internal sealed class SecondDatabasePlanning(FleetState state, DesignedState designed, Drivers drivers, FleetChanges changes, IClock clock)
{
    /// <summary>How many names may be mapped.</summary>
    private const int MostNames = 1_000;

    /// <summary>How long a driver may take to tell the names.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    /// <summary>What is asked for.</summary>
    /// <param name="Database">The database it is made of.</param>
    /// <param name="Id">What it is called.</param>
    /// <param name="Target">As it was at this instant, under another name; null for a copy elsewhere, as of one instant after it is asked for.</param>
    /// <param name="Loss">The loss supposed; null for none.</param>
    /// <param name="Host">Where it lives; null for the first recovery host that qualifies.</param>
    /// <param name="Objective">Its objective; null for that of the database, empty for none.</param>
    /// <param name="SizeBytes">The room it is given; null for that of the database.</param>
    /// <param name="Plan">The plan that is to name it; null where one catches it anyway, or none should.</param>
    /// <param name="Names">What its files and accounts are to be called; what is left out stays, or is named after it where it clashes.</param>
    /// <param name="Query">A query to check it with; null for none.</param>
    /// <param name="Settings">When settings of its host are changed that it needs: <c>now</c> or <c>window</c>; null where it needs none.</param>
    public sealed record SecondRequest(
        string Database, string Id, Instant? Target, string? Loss, string? Host, string? Objective, long? SizeBytes, string? Plan, IReadOnlyList<MappedName>? Names, string? Query, string? Settings = null);

    /// <summary>What it comes to.</summary>
    /// <param name="Subject">The database it is made of.</param>
    /// <param name="Model">The fleet with it.</param>
    /// <param name="Made">It.</param>
    /// <param name="Path">The way to it.</param>
    /// <param name="Follows">How it follows until it has caught up; null where it is as it was at an instant.</param>
    /// <param name="FirstBase">What is taken of it first; null where no plan takes anything.</param>
    /// <param name="Question">What its run is asked, its names left out.</param>
    public sealed record Planned(RecoverySubject Subject, FleetModel Model, Core.Fleet.Database Made, RestorePath Path, Core.Recovery.SecondDatabase.Following? Follows, PlanTask? FirstBase, SecondDatabaseKind.Question Question)
    {
        /// <summary>Settings of hosts that are changed for it and set back.</summary>
        public IReadOnlyList<NeededSetting> Needs => [.. Path.Needs, .. Follows?.Needs ?? []];

        /// <summary>Its run, with what its files and accounts are called.</summary>
        public (SecondDatabaseKind.Question Question, Run Run) With(IReadOnlyList<MappedName> names) => (
            Question with { Names = names },
            Run.Of(new RunPlan(Core.Recovery.SecondDatabase.Steps(Subject.Database, Made, Path, Question.Restore.Instance, names, Follows, Question.Plan, FirstBase))));
    }

    /// <exception cref="BadInputException">It names what cannot be.</exception>
    public Planned Of(SecondRequest request, SettingsAsked settings)
    {
        var (now, db) = (clock.GetCurrentInstant(), state[request.Database ?? ""]);
        var (s, d) = (db.Subject, db.Subject.Database);
        if (InputBounds.WhatIsWrongWithId(request.Id ?? "") is { } badId)
        {
            throw new BadInputException("id", badId);
        }

        if (state.Has(request.Id!))
        {
            throw new BadInputException("id", $"there is a database '{InputBounds.Quote(request.Id!)}' already", 409, "taken");
        }

        if (drivers.WhyNoSecond(s.Fleet, d) is { } whyNot)
        {
            throw new BadInputException("database", whyNot, 409, "no-driver");
        }

        if (request.Query is { } query && InputBounds.WhatIsWrong(query, InputBounds.Reason, lines: true) is { } badQuery)
        {
            throw new BadInputException("query", badQuery);
        }

        if (request.SizeBytes is { } size && (size < d.SizeBytes || size > InputBounds.Bytes))
        {
            throw new BadInputException("sizeBytes", size < d.SizeBytes ? $"{d.Name} takes {d.SizeBytes} bytes: it cannot be smaller" : $"at most {InputBounds.Bytes}");
        }

        if (request.Target > now)
        {
            throw new BadInputException("target", "lies in the future");
        }

        if (request.Host is { } named && !s.Fleet.Hosts.ContainsKey(new(named)))
        {
            throw new BadInputException("host", $"there is no host '{InputBounds.Quote(named)}'");
        }

        var loss = Premise.Read(request.Loss, null, state.Fleet, now).Loss.For(d, s.Fleet);
        var (path, figures, log) = request.Target is { } target ? (AtInstant(db, request, target, now, loss), null, null) : Following(s, request.Host, now);
        path = path with { Needs = settings.Answered(path.Needs, request.Settings) };
        var at = s.Fleet.Hosts[path.Host];
        var room = request.SizeBytes ?? d.SizeBytes;
        string[] failed =
        [
            .. Prechecks.Of(log?.From ?? s, at, path, loss, now).Where(c => c.Outcome == PrecheckOutcome.Failed).Select(c => $"{c.Name}: {c.Detail}"),
            .. at.FreeBytes < room && room > d.SizeBytes ? [$"{Prechecks.Room}: {at.FreeBytes} bytes free on {at.Id}, {room} are wanted"] : Array.Empty<string>(),
        ];
        if (failed.Length > 0)
        {
            throw new BadInputException("host", string.Join("; ", failed), 409, "precheck-failed");
        }

        var part = PartOf(d, request, at);
        var model = NewDatabaseEndpoints.WithPlan(ReplicaParts.Put(state.Fleet, [FleetParts.Put("databases", request.Id!, part)]), request.Id!, request.Plan);
        var made = model.DatabaseById[new(request.Id!)];
        var asked = new RestoreQuestion(
            loss.ToString(), request.Target ?? now, null, string.IsNullOrWhiteSpace(request.Query) ? null : request.Query, null, path.Host.Value, $"second-{Guid.CreateVersion7():n}"[..19], RestoreQuestion.Promise.Of(path), Settings: request.Settings);
        var forecast = figures is null ? null : MoveForecast.Of(figures);
        return new(
            s,
            model,
            made,
            path,
            forecast is null ? null : new(LogRounds.LogOf(s.Fleet, d)!, forecast, s.Fleet.Engines[d.Engine].OpenSeconds, settings.Answered(log!.Needs, request.Settings), log.Kept),
            Promoting.FirstBaseOf(model, made),
            new(asked, request.Id!, part.ToJsonString(), [], request.Plan, figures, forecast));
    }

    /// <summary>What its files and accounts would be called.</summary>
    /// <param name="Rows">Each; as proposed where what was wanted cannot be.</param>
    /// <param name="Unknown">Why they cannot be told now; null when they are.</param>
    /// <param name="Fault">What is wrong with what was wanted; null when nothing is.</param>
    public sealed record Names(IReadOnlyList<NameMapping.Row> Rows, string? Unknown, BadInputException? Fault);

    /// <summary>Asks where it is to live which names are taken there, and maps those that it brings.</summary>
    /// <exception cref="BadInputException">Too many are wanted.</exception>
    public async Task<Names> NamesAsync(SecondRequest request, Planned planned, CancellationToken cancel)
    {
        MappedName[] wanted = [.. (request.Names ?? []).Take(MostNames + 1).Select(n => n is null ? new MappedName(NameKind.File, "", "") : n with { From = n.From ?? "", To = n.To ?? "" })];
        if (wanted.Length > MostNames)
        {
            throw new BadInputException("names", $"at most {MostNames}");
        }

        var source = planned.Subject.Database;
        var (there, why) = await DriverAnswer.WithinAsync(Patience, c => drivers.For(source).Maker.NamesAsync(source.Id, planned.Path.Host, c), cancel);
        if (there is null)
        {
            return new([], why, null);
        }

        var (rows, fault) = NameMapping.Of(there, source.Id.Value, request.Id!, wanted);
        return fault is null ? new(rows, null, null) : new(NameMapping.Of(there, source.Id.Value, request.Id!, []).Rows, null, new BadInputException($"names[{fault.Index}].{fault.Member}", fault.Why));
    }

    /// <summary>The path by which it is as it was at an instant.</summary>
    private static RestorePath AtInstant(DatabaseState db, SecondRequest request, Instant target, Instant now, Loss loss)
    {
        var answer = PathFinder.Find(db.Subject, new PathQuestion { Target = target, At = now, Loss = loss, Choice = new(request.Host is null ? null : new(request.Host)), Learned = db.Learned });
        return answer.Best ?? throw new BadInputException(request.Host is null ? "target" : "host", answer.Reason!, 409, "no-path");
    }

    /// <summary>The path to a state that follows, with the figures by which it does, and what it takes for its log to.</summary>
    private (RestorePath Path, MoveQuestion Figures, LogToFollow Log) Following(RecoverySubject s, string? host, Instant now)
    {
        var d = s.Database;
        if (host is null)
        {
            throw new BadInputException("host", "say on which host it is to live");
        }

        var to = s.Fleet.Hosts[new(host)];
        if (HostQualification.WhyNot(s.Fleet, d, to, Loss.None) is { } not)
        {
            throw new BadInputException("host", not, 409, "host");
        }

        if (LogToFollow.WhyNot(s, drivers.For(d)) is { } noLog)
        {
            throw new BadInputException("target", $"log is what a copy catches up by, and {noLog}; or say as of which instant", 409, "no-log");
        }

        var known = MoveFigures.Of(s.Fleet, d, to, designed.LoadOf(d, now)) ?? throw new BadInputException("host", $"nothing links {s.Fleet.Hosts[d.Host].Site} and {to.Site}", 409, "no-link");
        var log = LogToFollow.Of(s, designed, now);
        var path = PathFinder.Unopened(log.From, now, to) ?? throw new BadInputException("host", $"no set of {d.Name} that log could follow can be read at {to.Id}", 409, "no-path");
        return (path, Core.Recovery.SecondDatabase.FiguresOf(known.Question, path), log);
    }

    /// <summary>It as it is to stand in the fleet file: what its database is, on its host, with a life of its own.</summary>
    private JsonObject PartOf(Core.Fleet.Database source, SecondRequest request, Core.Fleet.Host host)
    {
        var part = changes.Find("databases", source.Id.Value)!;

        // Its branches and the service that it is of stay with the one it is made of.
        part.Remove("branches");
        part.Remove("service");
        (part["id"], part["name"], part["host"]) = (request.Id, request.Id, host.Id.Value);
        part["recoveryHosts"] = new JsonArray([.. source.RecoveryHosts.Prepend(source.Host).Distinct().Where(h => h != host.Id).Select(h => (JsonNode)h.Value)]);
        if (request.SizeBytes is { } size)
        {
            part["sizeBytes"] = size;
        }

        if (request.Objective is { } objective)
        {
            if (objective.Length == 0)
            {
                part.Remove("objective");
            }
            else
            {
                part["objective"] = objective;
            }
        }

        return part;
    }
}
