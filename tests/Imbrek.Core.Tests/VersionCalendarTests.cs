using System.Text;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The version calendar: read with every fault named, and what it says of databases on and around its days.</summary>
public class VersionCalendarTests
{
    private static readonly FleetModel Fleet = PlanWorlds.Harbour(3).Changed((d, i) => d with { Version = i == 2 ? null : i == 1 ? "15" : "14" });
    private static readonly Id<EngineProfile> Engine = Fleet.Databases[0].Engine;

    private static ReadResult<VersionCalendar> Read(string text) => VersionFile.Read(Encoding.UTF8.GetBytes(text), "versions.json", Fleet);

    private static string One(string version, string until, string? engine = null) => $$"""{"engine":"{{engine ?? Engine.Value}}","version":"{{version}}","supportedUntil":"{{until}}"}""";

    private static string File(params string[] versions) => $$"""{"versions":[{{string.Join(",\n", versions)}}]}""";

    [Theory]
    [InlineData("2026-03-01", 0)]
    [InlineData("2026-02-28", -1)]
    [InlineData("2026-08-28", 180)]
    [InlineData("2026-08-29", null)]
    public void A_database_is_named_from_a_hundred_and_eighty_days_before_the_last_day_on(string until, int? days)
    {
        var calendar = Read(File(One("14", until), One("15", "2030-01-01"))).Value!;
        var at = Instant.FromUtc(2026, 3, 1, 23, 59);
        Assert.Equal(days is null ? [] : [(Fleet.Databases[0].Id, days.Value)], calendar.Due(Fleet, at).Select(s => (s.Database.Id, s.DaysLeft)));
        var found = VersionFindings.Of(Fleet.Databases[0], calendar, at).ToArray();
        Assert.Equal(days is null ? [] : [days < 0 ? "version-out-of-support" : "version-support-ends"], found.Select(f => f.Code));
        Assert.All(found, f => Assert.Contains("version 15", f.Remedy, StringComparison.Ordinal));

        // One whose version nobody states, and one whose version lasts, are not.
        Assert.All(Fleet.Databases.Skip(1), d => Assert.Empty(VersionFindings.Of(d, calendar, at)));
    }

    [Fact]
    public void The_soonest_come_first_and_what_is_written_reads_the_same()
    {
        var calendar = Read(File(One("15", "2026-01-10"), One("14", "2026-04-01"), One("14", "2027-01-01", "other"))).Value!;
        Assert.Equal(["15", "14"], calendar.Due(Fleet, Instant.FromUtc(2026, 3, 1, 0, 0)).Select(s => s.Support.Version));
        Assert.Equal(calendar.Versions, Read(VersionFile.Write(calendar)).Value!.Versions);
        Assert.Contains("'other'", Assert.Single(Read(VersionFile.Write(calendar)).Warnings).Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("2026-13-01", "supportedUntil")]
    [InlineData("soon", "supportedUntil")]
    [InlineData("1500-01-01", "supportedUntil")]
    public void A_day_that_is_none_is_a_fault(string until, string member)
    {
        var read = Read(File(One("14", "2026-01-01"), One("15", until)));
        Assert.Null(read.Value);
        Assert.Equal((2, $"versions[1].{member}"), (Assert.Single(read.Faults).Line, read.Faults[0].Member));
    }

    [Fact]
    public void Every_fault_is_told_at_once_and_nothing_else_is_read()
    {
        Assert.Equal(["versions[1].version"], Read(File(One("14", "2026-01-01"), One("14", "2027-01-01"))).Faults.Select(f => f.Member));
        Assert.Equal(["versions"], Read("{}").Faults.Select(f => f.Member));
        Assert.Equal(["versions[0].engine", "versions[0].version", "versions[0].supportedUntil"], Read("""{"versions":[{}]}""").Faults.Select(f => f.Member));
        Assert.NotEmpty(Read("[").Faults);
        Assert.NotEmpty(Read("[]").Faults);
        Assert.Equal("versions", Assert.Single(Read(File([.. Enumerable.Range(0, VersionFile.Most + 1).Select(i => One($"{i}", "2026-01-01"))])).Faults).Member);
        Assert.Single(Read("""{"versions":[],"more":1}""").Warnings);
    }
}
