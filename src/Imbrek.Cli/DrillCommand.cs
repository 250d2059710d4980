using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Drills;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>drill</c>: what a change of roles to a replica would lose, and how long nobody could write.</summary>
internal static class DrillCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> fleet = Inputs.Fleet(), catalog = Inputs.Catalog();
        Option<string> database = new("--database") { Description = "The database whose roles change.", Required = true };
        Option<string> to = new("--to") { Description = "The replica that becomes the primary.", Required = true };
        Option<string> kind = new("--kind") { Description = "switchover (both sides alive) or forced (the source is lost).", Required = true };
        Option<string> at = new("--at") { Description = "When writes stop, or the source is lost, in UTC.", Required = true };
        Option<string?> loss = new("--loss") { Description = "Of a forced one, what is lost: host[:ID], array[:ID] or site[:ID]; the primary's host when left out." };
        Option<bool> json = Inputs.Json(), all = Inputs.AllFaults();
        var command = new Command("drill", "What a switchover or a forced failover would lose, and how long writes would stop.") { fleet, catalog, database, to, kind, at, loss, json, all };
        command.SetAction(p => Run(
            p.GetValue(fleet)!, p.GetValue(catalog)!, p.GetValue(database)!, p.GetValue(to)!, p.GetValue(kind)!, p.GetValue(at)!, p.GetValue(loss), p.GetValue(json), p.GetValue(all)));
        return command;
    }

    private static int Run(string fleetPath, string cataloguePath, string id, string to, string kind, string atText, string? lossText, bool json, bool all)
    {
        var fleet = Inputs.ReadFleet(fleetPath, all);
        var catalogue = Inputs.ReadCatalogue(cataloguePath, fleet, all);
        var database = Inputs.ReadDatabase(id, fleet);
        var replica = Inputs.ReadReplica(to, fleet, "--to");
        if (replica.Database != database.Id)
        {
            throw new InputException($"--to: '{to}' is a replica of '{replica.Database}', not of '{id}'");
        }

        if (kind is not ("switchover" or "forced"))
        {
            throw new InputException($"--kind: '{kind}' is neither switchover nor forced");
        }

        var at = Inputs.Time("--at", atText);
        var loss = lossText is null ? Loss.Of(database.Host) : Inputs.ReadLoss(lossText, fleet).For(database, fleet);
        if (loss.Kind is LossKind.None or LossKind.Hostile)
        {
            throw new InputException($"--loss: '{lossText}' takes no host, array or site of '{id}'");
        }

        var subject = RecoverySubject.Of(fleet, database, catalogue.Of(database.Id));
        var source = subject.Replicas.First(r => r.Replica.Id == replica.Id);
        var planned = kind == "forced" ? PlannedDrill.Forced(subject, source, at, loss) : PlannedDrill.Switchover(subject, source, at);
        if (json)
        {
            Console.WriteLine(JsonSerializer.Serialize(
                new
                {
                    database = id,
                    to,
                    kind,
                    at = Instants.Write(at),
                    refused = planned.Refused,
                    lostSeconds = planned.LostSeconds,
                    lostBytes = planned.LostBytes,
                    writeStopSeconds = planned.WriteStopSeconds,
                    serviceSeconds = planned.ServiceSeconds,
                    approval = planned.Approval,
                },
                Indented));
        }
        else
        {
            Print(planned);
        }

        return 0;
    }

    private static void Print(PlannedDrill planned)
    {
        foreach (var reason in planned.Refused)
        {
            Console.WriteLine($"refused: {reason}");
        }

        if (planned.Refused.Count == 0)
        {
            AnsiConsole.Write(new Table().Border(TableBorder.Simple).AddColumns("lost (s)", "lost (bytes)", "writes stop for (s)", "back in (s)", "second person")
                .AddRow(Number(planned.LostSeconds), Number(planned.LostBytes), Number(planned.WriteStopSeconds), Number(planned.ServiceSeconds), planned.Approval == true ? "must agree" : "not needed"));
        }
    }

    private static string Number(double? n) => n?.ToString("#,0.###", CultureInfo.InvariantCulture) ?? "-";
}
