using System.CommandLine;
using System.Text.Json;
using NodaTime.Text;
using Spectre.Console;

namespace Imbrek.Cli;

/// <summary><c>versions</c>: which databases run a version whose support has ended, or ends soon.</summary>
internal static class VersionsCommand
{
    private static readonly JsonSerializerOptions Indented = new() { WriteIndented = true };

    public static Command Create()
    {
        Option<string> fleet = Inputs.Fleet();
        Option<string> versions = new("--versions") { Description = "The version calendar.", Required = true };
        Option<string> at = new("--at") { Description = "As of when, in UTC.", Required = true };
        Option<bool> json = Inputs.Json(), all = Inputs.AllFaults();
        var command = new Command("versions", "Databases whose version is out of support, or will be within 180 days.") { fleet, versions, at, json, all };
        command.SetAction(p => Run(p.GetValue(fleet)!, p.GetValue(versions)!, p.GetValue(at)!, p.GetValue(json), p.GetValue(all)));
        return command;
    }

    private static int Run(string fleetPath, string versionsPath, string atText, bool json, bool all)
    {
        var fleet = Inputs.ReadFleet(fleetPath, all);
        var due = Inputs.ReadVersions(versionsPath, fleet, all).Due(fleet, Inputs.Time("--at", atText));
        if (json)
        {
            Console.WriteLine(JsonSerializer.Serialize(
                due.Select(s => new { database = s.Database.Id.Value, engine = s.Support.Engine.Value, version = s.Support.Version, supportedUntil = LocalDatePattern.Iso.Format(s.Support.SupportedUntil), daysLeft = s.DaysLeft }),
                Indented));
            return 0;
        }

        var table = new Table().AddColumns("Database", "Engine", "Version", "Supported until", "Days left");
        foreach (var s in due)
        {
            table.AddRow(Markup.Escape(s.Database.Id.Value), Markup.Escape(s.Support.Engine.Value), Markup.Escape(s.Support.Version), LocalDatePattern.Iso.Format(s.Support.SupportedUntil), s.IsPast ? $"ended {-s.DaysLeft} days ago" : $"{s.DaysLeft}");
        }

        AnsiConsole.Write(table);
        return 0;
    }
}
