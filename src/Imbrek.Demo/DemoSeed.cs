using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Changes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Notices;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Notices;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using Imbrek.StandIn;
using Imbrek.StandIn.Scenario;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Demo;

/// <summary>Makes the demo: runs the history of its world and keeps what came of it, all in one transaction.</summary>
internal static class DemoSeed
{
    /// <summary>The file by which a folder is known as a world's.</summary>
    private const string Mark = "imbrek-world.txt";

    /// <summary>Runs the history and keeps it, unless that was done before.</summary>
    /// <param name="source">PostgreSQL.</param>
    /// <param name="folder">Where the world keeps its bytes; emptied first when there is no world yet.</param>
    /// <param name="options">How many days of history, and until when.</param>
    /// <param name="say">Told how far it is.</param>
    /// <param name="cancel">Stops it; nothing is kept then.</param>
    public static async Task WorldAsync(NpgsqlDataSource source, string folder, DemoOptions options, Action<string> say, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        if (await data.FleetVersions.AnyAsync(cancel))
        {
            if (!World.IsIn(folder))
            {
                throw new InvalidOperationException($"the database holds a demo whose world is not in {folder}: it was made by an earlier version, or lies elsewhere; start a fresh one with --fresh");
            }

            return;
        }

        Empty(folder);

        var days = options.HistoryDays;
        var now = Instant.FromUnixTimeSeconds((options.Now ?? SystemClock.Instance.GetCurrentInstant()).ToUnixTimeSeconds());
        var script = TarnholtFerries.Create(now, days);
        using var world = new World(folder, script);
        for (var day = script.Begins + Duration.FromDays(1); ; day += Duration.FromDays(1))
        {
            world.Advance(Instant.Min(day, now));
            if ((int)Math.Round((day - script.Begins).TotalDays) % 7 == 0)
            {
                say($"Running the world: {(day - script.Begins).TotalDays:0} of {days} days");
            }

            if (day >= now)
            {
                break;
            }
        }

        var sets = world.Sets;
        say($"Keeping {sets.Count} backup sets");
        await using var connection = await source.OpenConnectionAsync(cancel);
        await using var transaction = await connection.BeginTransactionAsync(cancel);
        await CatalogueTable.InsertAsync(connection, new BackupCatalogue(sets).All, cancel);
        await LagTable.UpsertAsync(connection, world.Replicas.History.Where(s => world.Fleet.Replicas.ContainsKey(s.Replica)), cancel);
        await using var inside = await ImbrekDatabase.WithinAsync(source, transaction, cancel);
        inside.FleetVersions.Add(new FleetVersionRow { Number = 1, At = script.Begins, Who = "demo", Document = FleetFile.Write(script.Fleet.WithPlans([])) });
        foreach (var plan in script.Fleet.Plans)
        {
            inside.PlanVersions.Add(new PlanVersionRow { Plan = plan.Id.Value, Number = 1, At = script.Begins, Who = "plan", Document = PlanFile.Write(plan).ToJsonString() });
        }

        var changes = world.TakeChanges();
        var runs = changes.OfType<WorldChange.RunChanged>().Select(c => c.Run).ToArray();
        say($"Keeping {runs.Length} runs");
        await RunTable.UpsertAsync(connection, runs, cancel);
        var notices = new NoticeBook(script.Fleet, []);
        foreach (var run in runs.OrderBy(r => r.Ended))
        {
            notices.Hear(run);
        }

        await new NoticeTable().WriteAsync(notices, inside, cancel);
        var version = 1;
        foreach (var change in changes)
        {
            WorldHost.AddRow(inside, change);
            switch (change)
            {
                case WorldChange.Rehearsed r:
                    await KeepRehearsalAsync(inside, script.Fleet, r, cancel);
                    break;
                case WorldChange.FleetChanged f:
                    inside.FleetVersions.Add(new FleetVersionRow { Number = ++version, At = f.At, Who = "operate", Why = f.Why, Document = FleetFile.Write(f.Fleet.WithPlans([])) });
                    break;
                case WorldChange.Drilled d:
                    await KeepDrillAsync(inside, d, cancel);
                    break;
            }
        }

        foreach (var incident in script.Incidents)
        {
            var noted = incident.At + Duration.FromMinutes(25);
            inside.Incidents.Add(new IncidentRow { Database = incident.Database.Value, Title = incident.Title, At = incident.At, NotedBy = "operate", NotedAt = noted });
            var body = JsonSerializer.Serialize(new { title = incident.Title, at = Instants.Write(incident.At) });
            await LedgerTable.AppendAsync(inside, noted, "operate", "incident", incident.Database.Value, body, cancel);
        }

        // The gates are to change roles in a quiet hour of next week; whoever works at them knows.
        inside.DatedDrills.Add(new DatedDrillRow
        {
            Id = Guid.CreateVersion7(),
            Of = "group",
            Target = "gates",
            Title = "group Boarding gates",
            Database = "gate-scans",
            Kind = "switchover",
            Ending = "home",
            At = script.Now.InUtc().Date.PlusDays(6).At(new LocalTime(3, 30)).InUtc().ToInstant(),
            People = ["terminal operations", "database-team"],
            Escalate = ["head of platform"],
            Why = "between the last arrival and the first departure; gates go on by hand meanwhile",
            AskedBy = "operate",
            AskedAt = script.Now,
        });

        LeaveClone(inside, world, now);

        // Version 14 of the families with a log of their own ends in a hundred days; what is managed is kept up by whoever manages it.
        var today = now.InUtc().Date;
        VersionSupport[] versions =
        [
            .. script.Fleet.EngineList.Where(e => e.Id.Value != "managed").SelectMany(e => new[] { new VersionSupport(e.Id, "14", today.PlusDays(e.Id.Value is "chain-log" or "stream-log" ? 100 : 460)), new(e.Id, "15", today.PlusDays(825)) }),
            new(new("managed"), "15", today.PlusDays(640)),
        ];
        inside.Versions.AddRange(versions.Select((v, i) => new VersionRow { Number = i + 1, Engine = v.Engine.Value, Version = v.Version, SupportedUntil = v.SupportedUntil }));

        inside.Changes.AddRange(
            Changed("to-15", new(
                "Chained log to version 15",
                new("chain-log"),
                true,
                [new("move", "15", []), new("statistics", null, ["collect statistics"])],
                [new("tickets sold", "count written"), new("cancelled", "count cancelled"), new("turnover", "sum values")])),
            Changed("clear-2019", new(
                "Clear what was sold before 2019",
                new("chain-log"),
                false,
                [new("clear", null, ["clear rows from 0 to 63"]), new("indexes", null, ["rebuild indexes"])],
                [new("tickets sold", "count written")])));

        ChangeRow Changed(string id, Change change) => new() { Id = id, Body = RunJson.Write(change), ChangedBy = "plan", ChangedAt = now };

        // What history had under way the product goes on with.
        inside.Runs.AddRange(world.Remember().Open.Select(o => new RunRow
        {
            Id = o.Id,
            Kind = PlanFile.Name(Enum.Parse<TaskKind>(o.Kind)),
            Database = o.Database,
            Plan = o.Plan,
            Task = o.Task,
            Due = Instant.FromUnixTimeMilliseconds(o.Due),
            State = (short)RunState.Waiting,
            SetId = o.Set,
            AfterId = o.After,
            AskedBy = o.AskedBy,
        }));

        // The world first: should the rest not be kept, it is made anew together with it.
        world.KeepForOthers(days);
        inside.Dispatches.Add(new DispatchRow { Id = 1, DecidedTo = world.Now });
        await inside.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        await ImbrekDatabase.AnalyzeAsync(connection, cancel);
    }

    /// <summary>Empties the folder of a world that is no longer, and no other: one that holds anything without our mark is left as it is.</summary>
    /// <exception cref="IOException">The folder holds what is not ours.</exception>
    private static void Empty(string folder)
    {
        var mark = Path.Combine(folder, Mark);
        if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any())
        {
            if (!File.Exists(mark))
            {
                throw new IOException($"{folder} holds files that are not those of a demo's world; name an empty or a new folder with --demo");
            }

            Directory.Delete(folder, recursive: true);
        }

        Directory.CreateDirectory(folder);
        File.WriteAllText(mark, "The simulated world of an Imbrek demo keeps its bytes here. The folder is emptied when a new world is made.\n");
    }

    /// <summary>A clone that somebody had made for a test, and that stands past its end: nobody has removed it. What making it took was not kept.</summary>
    private static void LeaveClone(ImbrekContext data, World world, Instant now)
    {
        const string instance = "certificates-trial";
        var d = world.Fleet.DatabaseById[new("crew-certificates")];
        var (made, until) = (now - Duration.FromDays(9), now - Duration.FromDays(4));
        var subject = RecoverySubject.Of(world.Fleet, d, new DatabaseCatalogue(d.Id, world.Sets.Where(s => s.Database == d.Id)));
        if (PathFinder.Find(subject, new PathQuestion { Target = made, At = made }).Best is not { } path)
        {
            return;
        }

        var run = Run.Of(new RunPlan(TemporaryCopy.Clone(d, path, instance, ["quay-h2"], [], until)));
        foreach (var step in run.Plan.Steps)
        {
            run = run.Begin(step.Number, made).Finish(step.Number, made, null, null);
        }

        var asked = new RestoreQuestion("none", made, null, null, null, path.Host.Value, instance, RestoreQuestion.Promise.Of(path), Hosts: ["quay-h2"], Mask: [], Stays: true);
        var row = NewRuns.Row(TemporaryCopyKind.Clone, d.Id.Value, WorldFamily.FamilyName, asked, run.Close(made), "operate", made);
        (row.State, row.Started, row.Ended, row.Claim, row.Until, row.Attempts, row.Fence) = ((short)RunState.Done, made, made, asked.Claim, until, 1, 1);
        row.Note = $"stands on {asked.Host} as {asked.Instance} until {Instants.Write(until)}";
        data.Runs.Add(row);
        new StandInDriver(world).Leave(new(row.Id, 1), asked.Spec(d.Id.Value, row.Id), made, [new("quay-h2")]);
    }

    /// <summary>Keeps a drill of history as the run it was, with what it proved and its entry in the ledger.</summary>
    private static async Task KeepDrillAsync(ImbrekContext data, WorldChange.Drilled d, CancellationToken cancel)
    {
        var started = d.Run.Plan.Steps.Min(s => d.Run[s.Number].StartedAt);
        var row = new RunRow
        {
            Id = d.Id,
            Kind = DrillRunKind.KindName,
            Database = d.Of.Value,
            Driver = WorldFamily.FamilyName,
            Due = started!.Value,
            Started = started,
            Ended = d.At,
            State = (short)d.End.State,
            Attempts = 1,
            Fence = 1,
            AskedBy = "operate",
            CancelledBy = d.Run.CancelledBy,
            Question = RunJson.Write(d.Question),
            Steps = RunJson.WriteSteps(d.Run),
            Result = DrillRunKind.MeasuredBy(d.Run, d.Question),
            NoWayBack = !d.Run.CanTurnBack,
            ExpectedSeconds = d.Run.Plan.ExpectedSeconds,
        };
        var concluded = DrillRunKind.Concluded(new(row, d.Run, new(d.Id, 1)), d.Question, d.End, d.Fleet.DatabaseById[d.Of], d.Fleet, d.At);
        row.Note = concluded.Note;
        data.Runs.Add(row);
        var number = await LedgerTable.AppendAsync(data, d.At, "operate", DrillRunKind.KindName, d.Of.Value, concluded.LedgerBody!, cancel);
        foreach (var proof in concluded.Proofs ?? [])
        {
            proof.LedgerNumber = number;
            data.Proofs.Add(proof);
        }
    }

    /// <summary>Keeps what a rehearsed restore measured, as a proof with its entry in the ledger.</summary>
    public static async Task KeepRehearsalAsync(ImbrekContext data, FleetModel fleet, WorldChange.Rehearsed r, CancellationToken cancel)
    {
        var (m, d) = (r.Measure, fleet.DatabaseById[r.Of]);
        var proof = m.ProofOf(d, fleet, r.At);
        var body = JsonSerializer.Serialize(new
        {
            outcome = "rehearsed",
            target = Instants.Write(m.Target),
            loss = m.Loss.ToString(),
            host = m.Host.Value,
            planned = new { seconds = m.PlannedSeconds },
            measured = new
            {
                dataLostSeconds = proof.LostSeconds,
                secondsToReady = m.ActualSeconds,
                serviceSecondsWithoutHold = proof.ServiceSeconds,
                checks = m.Checks.Select(c => new { name = c.Name, passed = c.Passed, detail = c.Detail }),
            },
        });
        var number = await LedgerTable.AppendAsync(data, r.At, "operate", "rehearsal", d.Id.Value, body, cancel);
        var row = ProofRow.Of(d.Id, proof, m.Loss, m.Host);
        row.LedgerNumber = number;
        data.Proofs.Add(row);
    }
}
