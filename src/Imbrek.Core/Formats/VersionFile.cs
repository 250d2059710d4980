using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Formats;

/// <summary>The version calendar as an open file: <c>{"versions":[{"engine","version","supportedUntil"}]}</c>, a day as 2027-03-07.</summary>
public static class VersionFile
{
    /// <summary>How many versions it may hold.</summary>
    public const int Most = 10_000;

    /// <summary>Reads a calendar; all faults of it, or the calendar.</summary>
    /// <param name="text">The file, UTF-8.</param>
    /// <param name="file">Its name, for faults.</param>
    /// <param name="fleet">The fleet whose families it names; a family it has not is a warning.</param>
    public static ReadResult<VersionCalendar> Read(ReadOnlyMemory<byte> text, string file, FleetModel fleet)
    {
        var report = new FaultReport(file);
        if (LocatedJson.Parse(text, report) is not { } root || report.Faults.Count > 0)
        {
            return new(null, report.Faults, report.Warnings);
        }

        var (versions, seen) = (new List<VersionSupport>(), new HashSet<(string, string)>());
        var items = root.Objects("versions", required: true);
        if (items.Count > Most)
        {
            root.FaultAt("versions", $"has {items.Count} versions; at most {Most} are read");
            return new(null, report.Faults, report.Warnings);
        }

        foreach (var item in items)
        {
            var (engine, version, day) = (item.Identifier("engine"), item.Text("version"), item.Text("supportedUntil"));
            var until = day is null ? null : LocalDatePattern.Iso.Parse(day) is { Success: true, Value: { Year: >= 1900 and <= 2200 } d } ? d : (LocalDate?)null;
            if (day is not null && until is null)
            {
                item.FaultAt("supportedUntil", $"'{InputBounds.Quote(day)}' is no day such as 2027-03-07");
            }

            if (engine is not null && version is not null && !seen.Add((engine, version)))
            {
                item.FaultAt("version", $"version '{InputBounds.Quote(version)}' of {engine} comes twice");
            }
            else if (engine is not null && version is not null && until is { } last)
            {
                versions.Add(new(new(engine), version, last));
                if (!fleet.Engines.ContainsKey(new(engine)) && !report.WarnedEnough)
                {
                    report.Warn(item.Line, $"{item.Path}.engine", $"the fleet has no engine '{engine}'");
                }
            }

            item.WarnOfUnknown();
        }

        root.WarnOfUnknown();
        return new(report.Faults.Count > 0 ? null : new VersionCalendar(versions), report.Faults, report.Warnings);
    }

    /// <summary>Writes a calendar.</summary>
    public static string Write(VersionCalendar calendar) => new JsonObject
    {
        ["versions"] = new JsonArray([.. calendar.Versions.Select(v => (JsonNode)new JsonObject
        {
            ["engine"] = v.Engine.Value,
            ["version"] = v.Version,
            ["supportedUntil"] = LocalDatePattern.Iso.Format(v.SupportedUntil),
        })]),
    }.ToJsonString(new() { WriteIndented = true });
}
