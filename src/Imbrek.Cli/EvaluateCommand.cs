using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using NodaTime;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>evaluate</c>: what could be restored and what would be lost, for each database.</summary>
internal static class EvaluateCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> fleet = Inputs.Fleet(), catalog = Inputs.Catalog(), loss = Inputs.Loss();
        Option<string> at = new("--at") { Description = "The as-of instant, in UTC.", Required = true };
        Option<string?> from = new("--from") { Description = "Start of the window whose worst exposure is wanted." };
        Option<string?> database = new("--database") { Description = "Only this database." };
        Option<bool> json = Inputs.Json(), all = Inputs.AllFaults();
        var command = new Command("evaluate", "Recoverable instants, exposure and window figures.") { fleet, catalog, at, loss, from, database, json, all };
        command.SetAction(p => Run(
            p.GetValue(fleet)!, p.GetValue(catalog)!, p.GetValue(at)!, p.GetValue(loss)!, p.GetValue(from), p.GetValue(database), p.GetValue(json), p.GetValue(all)));
        return command;
    }

    private static int Run(string fleetPath, string cataloguePath, string atText, string lossText, string? fromText, string? id, bool json, bool all)
    {
        var fleet = Inputs.ReadFleet(fleetPath, all);
        var catalogue = Inputs.ReadCatalogue(cataloguePath, fleet, all);
        var at = Inputs.Time("--at", atText);
        var loss = Inputs.ReadLoss(lossText, fleet);
        Instant? from = fromText is null ? null : Inputs.Time("--from", fromText);
        if (from > at)
        {
            throw new InputException("--from: the window starts after --at");
        }

        var databases = id is null ? fleet.Databases : [Inputs.ReadDatabase(id, fleet)];
        var found = databases.Select(d => Evaluator.Evaluate(RecoverySubject.Of(fleet, d, catalogue.Of(d.Id)), loss, at, from)).ToArray();
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

    private static Dictionary<string, object?> ToJson(Evaluation e)
    {
        var o = new Dictionary<string, object?>
        {
            ["database"] = e.Database.Value,
            ["at"] = Instants.Write(e.At),
            ["loss"] = e.Loss.ToString(),
            ["recoverable"] = e.Recoverable.Select(i => new { from = Instants.Write(i.From), to = Instants.Write(i.To) }),
            ["latest"] = Instants.Write(e.Latest),
            ["exposureSeconds"] = e.ExposureSeconds,
        };
        if (e.Window is { } w)
        {
            o["window"] = new
            {
                from = Instants.Write(w.From),
                to = Instants.Write(w.To),
                worstExposureSeconds = w.WorstExposureSeconds,
                worstAt = Instants.Write(w.WorstAt),
                secondsOverRpo = w.SecondsOverRpo,
                secondsUnprotected = w.SecondsUnprotected,
            };
        }

        return o;
    }

    private static void Print(IEnumerable<Evaluation> found)
    {
        var table = new Table().Border(TableBorder.Simple)
            .AddColumns("database", "loss", "latest recoverable", "could lose (s)", "worst in window (s)", "over RPO (s)", "unprotected (s)");
        foreach (var e in found)
        {
            table.AddRow(
                Markup.Escape(e.Database.Value),
                Markup.Escape(e.Loss.ToString()),
                Instants.Write(e.Latest) ?? "nothing",
                Number(e.ExposureSeconds),
                Number(e.Window?.WorstExposureSeconds),
                Number(e.Window?.SecondsOverRpo),
                Number(e.Window?.SecondsUnprotected));
        }

        AnsiConsole.Write(table);
    }

    private static string Number(double? n) => n?.ToString("#,0.###", CultureInfo.InvariantCulture) ?? "-";
}
