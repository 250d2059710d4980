using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>path</c>: how one database would be brought back, from which copies and in what time.</summary>
internal static class PathCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> fleet = Inputs.Fleet(), catalog = Inputs.Catalog(), loss = Inputs.Loss();
        Option<string> database = new("--database") { Description = "The database to bring back.", Required = true };
        Option<string> target = new("--target") { Description = "The instant wanted, in UTC.", Required = true };
        Option<string?> at = new("--at") { Description = "The as-of instant; the target when left out." };
        Option<string?> host = new("--host") { Description = "The recovery host; the first that qualifies when left out." };
        Option<bool> json = Inputs.Json(), all = Inputs.AllFaults();
        var command = new Command("path", "The restore path and its seconds.") { fleet, catalog, database, target, at, loss, host, json, all };
        command.SetAction(p => Run(
            p.GetValue(fleet)!, p.GetValue(catalog)!, p.GetValue(database)!, p.GetValue(target)!, p.GetValue(at), p.GetValue(loss)!, p.GetValue(host), p.GetValue(json), p.GetValue(all)));
        return command;
    }

    private static int Run(string fleetPath, string cataloguePath, string id, string targetText, string? atText, string lossText, string? host, bool json, bool all)
    {
        var fleet = Inputs.ReadFleet(fleetPath, all);
        var catalogue = Inputs.ReadCatalogue(cataloguePath, fleet, all);
        var database = Inputs.ReadDatabase(id, fleet);
        var target = Inputs.Time("--target", targetText);
        var at = atText is null ? target : Inputs.Time("--at", atText);
        if (target > at)
        {
            throw new InputException("--target: is after --at");
        }

        if (host is not null && !fleet.Hosts.ContainsKey(new(host)))
        {
            throw new InputException($"--host: the fleet has no host '{host}'");
        }

        var answer = WayFinder.Find(
            RecoverySubject.Of(fleet, database, catalogue.Of(database.Id)),
            new PathQuestion { Target = target, At = at, Loss = Inputs.ReadLoss(lossText, fleet), Choice = new(host is null ? null : new(host)) });
        if (json)
        {
            Console.WriteLine(JsonSerializer.Serialize(ToJson(id, target, answer), Indented));
        }
        else
        {
            Print(answer);
        }

        return 0;
    }

    private static Dictionary<string, object?> ToJson(string id, NodaTime.Instant target, PathAnswer<WayBack> answer)
    {
        var best = answer.Best;
        var o = new Dictionary<string, object?>
        {
            ["database"] = id,
            ["target"] = Instants.Write(target),
            ["host"] = answer.Host?.Value,
            ["reaches"] = Instants.Write(best?.Reaches),
            ["lostSeconds"] = best?.LostSeconds,
            ["seconds"] = best?.Seconds,
            ["serviceSeconds"] = best?.ServiceSeconds,
        };
        if (answer.Reason is { } reason)
        {
            o["reason"] = reason;
        }

        o["steps"] = best switch
        {
            RestorePath path => path.Steps.Select(s =>
            {
                var step = new Dictionary<string, object?> { ["set"] = s.Set.Value, ["store"] = s.Store.Value, ["seconds"] = s.Seconds };
                if (s.StopsAt is { } stop)
                {
                    step["stopsAt"] = Instants.Write(stop);
                }

                return step;
            }),
            TakeOver t => new[] { new { replica = t.Replica.Value, seconds = t.Seconds, stopsAt = Instants.Write(t.Reaches) } },
            _ => Array.Empty<object>(),
        };
        return o;
    }

    private static void Print(PathAnswer<WayBack> answer)
    {
        if (answer.Best is not { } best)
        {
            AnsiConsole.MarkupLineInterpolated($"No path: {answer.Reason}");
            return;
        }

        AnsiConsole.MarkupLineInterpolated(
            $"To {best.Host.Value}: reaches {Instants.Write(best.Reaches)}, loses {Number(best.LostSeconds)} s, takes {Number(best.Seconds)} s, service back in {Number(best.ServiceSeconds)} s.");
        if (best is TakeOver way)
        {
            AnsiConsole.MarkupLineInterpolated($"Replica {way.Replica.Value} takes over{(way.ByItself ? " by itself" : "")}: {Number(way.WorkSeconds)} s to bring it there, {Number(way.PromoteSeconds)} s to promote it.");
            return;
        }

        var table = new Table().Border(TableBorder.Simple).AddColumns("step", "set", "store", "seconds", "stops at");
        foreach (var (step, i) in ((RestorePath)best).Steps.Select((s, i) => (s, i + 1)))
        {
            table.AddRow(
                i.ToString(CultureInfo.InvariantCulture),
                Markup.Escape(step.Set.Value),
                Markup.Escape(step.Store.Value),
                Number(step.Seconds),
                Instants.Write(step.StopsAt) ?? "");
        }

        AnsiConsole.Write(table);
    }

    private static string Number(double n) => n.ToString("#,0.###", CultureInfo.InvariantCulture);
}
