using System.CommandLine;
using System.Text.Json;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>common</c>: the latest instant to which several databases can all be brought.</summary>
internal static class CommonCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> fleet = Inputs.Fleet(), catalog = Inputs.Catalog(), loss = Inputs.Loss();
        Option<string> databases = new("--databases") { Description = "The databases, separated by commas.", Required = true };
        Option<string> at = new("--at") { Description = "The instant from which one looks, in UTC.", Required = true };
        Option<string?> target = new("--target") { Description = "The latest instant that is wanted, in UTC; that of --at when left out." };
        Option<bool> json = Inputs.Json(), all = Inputs.AllFaults();
        var command = new Command("common", "The latest instant to which several databases can all be brought.") { fleet, catalog, databases, at, loss, target, json, all };
        command.SetAction(p => Run(p.GetValue(fleet)!, p.GetValue(catalog)!, p.GetValue(databases)!, p.GetValue(at)!, p.GetValue(loss)!, p.GetValue(target), p.GetValue(json), p.GetValue(all)));
        return command;
    }

    private static int Run(string fleetPath, string cataloguePath, string ids, string atText, string lossText, string? targetText, bool json, bool all)
    {
        var fleet = Inputs.ReadFleet(fleetPath, all);
        var catalogue = Inputs.ReadCatalogue(cataloguePath, fleet, all);
        var at = Inputs.Time("--at", atText);
        var target = targetText is null ? at : Inputs.Time("--target", targetText);
        var loss = Inputs.ReadLoss(lossText, fleet);
        var wanted = new HashSet<Id<Database>>();
        foreach (var id in ids.Split(',', StringSplitOptions.TrimEntries))
        {
            if (!wanted.Add(Inputs.ReadDatabase(id, fleet, "--databases").Id))
            {
                throw new InputException($"--databases: '{id}' is named twice");
            }
        }

        var common = CommonInstant.Of([.. fleet.Databases.Where(d => wanted.Contains(d.Id)).Select(d => RecoverySubject.Of(fleet, d, catalogue.Of(d.Id)))], loss, at, target);
        if (json)
        {
            Console.WriteLine(JsonSerializer.Serialize(
                new
                {
                    latest = common.Latest is { } l ? Instants.Write(l) : null,
                    each = common.Each.Select(e => new { database = e.Database.Value, latest = e.Latest is { } own ? Instants.Write(own) : null, givesUpSeconds = e.GivesUpSeconds }),
                    holdsBack = common.HoldsBack.Select(d => d.Value),
                },
                Indented));
            return 0;
        }

        var table = new Table().AddColumns("Database", "By itself", "Gives up", "");
        foreach (var e in common.Each)
        {
            table.AddRow(
                Markup.Escape(e.Database.Value),
                e.Latest is { } own ? Instants.Write(own) : "–",
                e.GivesUpSeconds is { } seconds ? PlainDuration.Of(seconds) : "–",
                common.HoldsBack.Contains(e.Database) ? "holds the others back" : "");
        }

        AnsiConsole.Write(table);
        Console.WriteLine(common.Latest is { } at2 ? $"all can be brought to {Instants.Write(at2)}" : "there is no instant to which all can be brought");
        return 0;
    }
}
