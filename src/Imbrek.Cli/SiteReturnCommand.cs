using System.CommandLine;
using System.Text.Json;
using Imbrek.Core.Drills;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>site-return</c>: in which order the databases of a lost site come back, and who is late because of the others.</summary>
internal static class SiteReturnCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> fleet = Inputs.Fleet(), catalog = Inputs.Catalog();
        Option<string> loss = new("--loss") { Description = "The site: site:ID.", Required = true };
        Option<string> at = new("--at") { Description = "When it is lost, in UTC.", Required = true };
        Option<bool> json = Inputs.Json(), all = Inputs.AllFaults();
        var command = new Command("site-return", "How all databases of a lost site come back, sharing hosts, stores and links.") { fleet, catalog, loss, at, json, all };
        command.SetAction(p => Run(p.GetValue(fleet)!, p.GetValue(catalog)!, p.GetValue(loss)!, p.GetValue(at)!, p.GetValue(json), p.GetValue(all)));
        return command;
    }

    private static int Run(string fleetPath, string cataloguePath, string lossText, string atText, bool json, bool all)
    {
        var fleet = Inputs.ReadFleet(fleetPath, all);
        var catalogue = Inputs.ReadCatalogue(cataloguePath, fleet, all);
        if (Inputs.ReadLoss(lossText, fleet) is not { Kind: LossKind.Site, Thing: { } site })
        {
            throw new InputException($"--loss: '{lossText}' is not site:ID");
        }

        var plan = SiteLoss.Of(fleet.Databases.Select(d => RecoverySubject.Of(fleet, d, catalogue.Of(d.Id))), fleet, new(site), Inputs.Time("--at", atText));
        if (json)
        {
            Console.WriteLine(JsonSerializer.Serialize(
                plan.Returns.Select(r => new { database = r.Database.Value, host = r.Way?.Host.Value, startsAt = r.StartsSeconds, readyAt = r.ReadySeconds, serviceAt = r.ServiceSeconds, withinRto = r.WithinRto }),
                Indented));
            return 0;
        }

        var table = new Table().AddColumns("Database", "Host", "Begins", "Open", "Service", "Agreed", "");
        foreach (var r in plan.Returns)
        {
            table.AddRow(
                Markup.Escape(r.Database.Value),
                Markup.Escape(r.Way?.Host.Value ?? r.WhyNot ?? "no way back"),
                For(r.StartsSeconds),
                For(r.ReadySeconds),
                For(r.ServiceSeconds),
                For(r.RtoSeconds),
                r.WithinRto == false ? r.LateForTheOthers ? "late because of the others" : "late" : "");
        }

        AnsiConsole.Write(table);
        Console.WriteLine($"all that can come back are back after {PlainDuration.Of(plan.Seconds)}");
        return 0;

        static string For(double? seconds) => seconds is { } s ? PlainDuration.Of(s) : "–";
    }
}
