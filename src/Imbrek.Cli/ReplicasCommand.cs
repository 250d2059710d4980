using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>replicas</c>: how each replica stands: what it lacks, how soon it has caught up, how long it may stay away.</summary>
internal static class ReplicasCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> fleet = Inputs.Fleet(), catalog = Inputs.Catalog();
        Option<string> at = new("--at") { Description = "The as-of instant, in UTC.", Required = true };
        Option<string?> replica = new("--replica") { Description = "Only this replica." };
        Option<bool> json = Inputs.Json(), all = Inputs.AllFaults();
        var command = new Command("replicas", "Lag, catch-up, tolerated outage and what each replica comes to by design.") { fleet, catalog, at, replica, json, all };
        command.SetAction(p => Run(p.GetValue(fleet)!, p.GetValue(catalog)!, p.GetValue(at)!, p.GetValue(replica), p.GetValue(json), p.GetValue(all)));
        return command;
    }

    private static int Run(string fleetPath, string cataloguePath, string atText, string? id, bool json, bool all)
    {
        var fleet = Inputs.ReadFleet(fleetPath, all);
        var catalogue = Inputs.ReadCatalogue(cataloguePath, fleet, all);
        var at = Inputs.Time("--at", atText);
        Replica[] wanted = id is null ? [.. fleet.ReplicaList] : [Inputs.ReadReplica(id, fleet)];
        var subjects = wanted.Select(r => r.Database).Distinct().AsParallel()
            .Select(d => RecoverySubject.Of(fleet, fleet.DatabaseById[d], catalogue.Of(d))).ToDictionary(s => s.Database.Id);
        ReplicaFigures[] found = [.. wanted.AsParallel().AsOrdered().Select(r => Watch.Of(subjects[r.Database], subjects[r.Database].Replicas.First(x => x.Replica.Id == r.Id), at))];
        if (json)
        {
            Console.WriteLine(JsonSerializer.Serialize(found.Select(ToJson), Indented));
        }
        else
        {
            Print(found);
        }

        return 0;
    }

    private static object ToJson(ReplicaFigures f) => new
    {
        replica = f.Replica.Value,
        state = JsonNamingPolicy.CamelCase.ConvertName(f.State.ToString()),
        receivedLagSeconds = f.ReceivedLagSeconds,
        appliedLagSeconds = f.AppliedLagSeconds,
        backlogBytes = f.BacklogBytes,
        catchUpSeconds = f.CatchUpSeconds,
        readCatchUpSeconds = f.ReadCatchUpSeconds,
        toleratedOutageSeconds = f.ToleratedOutageSeconds,
        roomSeconds = f.RoomSeconds,
        byDesignSeconds = f.ByDesignSeconds,
        readByDesignSeconds = f.ReadByDesignSeconds,
        waitMs = f.WaitMs,
        seedSeconds = f.Seed?.Seconds,
        seedBy = f.Seed is null ? null : f.Seed.ByBackup ? "backup" : "copy",
    };

    private static void Print(IEnumerable<ReplicaFigures> found)
    {
        var table = new Table().Border(TableBorder.Simple)
            .AddColumns("replica", "state", "received lag (s)", "applied lag (s)", "catch-up (s)", "may stay away (s)", "by design (s)", "read by design (s)", "commit waits (ms)", "seed (s)");
        foreach (var f in found)
        {
            table.AddRow(
                Markup.Escape(f.Replica.Value),
                Word(f.State),
                Number(f.ReceivedLagSeconds),
                Number(f.AppliedLagSeconds),
                Number(f.CatchUpSeconds),
                Number(f.ToleratedOutageSeconds),
                Number(f.ByDesignSeconds),
                Number(f.ReadByDesignSeconds),
                Number(f.WaitMs),
                f.Seed is null ? "-" : $"{Number(f.Seed.Seconds)} by {(f.Seed.ByBackup ? "backup" : "copy")}");
        }

        AnsiConsole.Write(table);
    }

    private static string Word(ReplicaState state) => state switch
    {
        ReplicaState.InStep => "in step",
        ReplicaState.CutOff => "cut off",
        _ => state.ToString().ToLowerInvariant(),
    };

    private static string Number(double? n) => n?.ToString("#,0.###", CultureInfo.InvariantCulture) ?? "-";
}
