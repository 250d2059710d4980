using System.Text;
using System.Text.Json.Nodes;
using CsCheck;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>Input that is meant to end, fill or freeze what reads it.</summary>
public class HostileInput
{
    private const string SetLine =
        """{"type":"set","id":"s1","database":"d0","kind":"full","toPosition":5,"coversTo":"2026-03-01T02:41:00Z","dataBytes":4,"copies":[{"store":"near","availableAt":"2026-03-01T02:55:00Z","storedBytes":4}]}""";

    private const string PlanText =
        """{"id":"p","tasks":[{"id":"f","kind":"full","store":"near","slots":1,"recurrence":{"words":"daily 01:00","start":"2026-01-01"},"keep":{"forSeconds":86400}}]}""";

    private static ReadResult<Plan> ReadPlan(string text) => PlanFile.Read(Encoding.UTF8.GetBytes(text), Harbour(), new LocalDate(2026, 3, 1));

    private static IReadOnlyList<Fault> FaultsOfSet(string line) => CatalogueFile.Read(Encoding.UTF8.GetBytes(line), "c", Harbour()).Faults;

    public static TheoryData<string, string> Documents() => new()
    {
        { "brackets", string.Concat(Enumerable.Repeat("[],", 340_000)) },
        { "numbers", "{\"tasks\":[" + string.Join(',', Enumerable.Repeat("1", 500_000)) + "]}" },
        { "deep", string.Concat(Enumerable.Repeat("{\"abcdefghijklmnopqrstuvwxyz\":", 32_000)) },
        { "long name", "{\"" + new string('x', 1_000_000) + "\":[[[[[[[[1]]]]]]]]}" },
        { "same member", "{" + string.Join(',', Enumerable.Repeat("\"a\":1", 160_000)) + "}" },
        { "unknown members", "{" + string.Join(',', Enumerable.Range(0, 80_000).Select(i => $"\"m{i}\":1")) + "}" },
        { "wrong items", "{\"tasks\":[" + string.Join(',', Enumerable.Repeat("null,{},\"\"", 80_000)) + "]}" },
        { "long words", PlanText.Replace("daily 01:00", string.Concat(Enumerable.Repeat("1:00,", 200_000)), StringComparison.Ordinal) },
        { "long rule", PlanText.Replace("daily 01:00", "FREQ=DAILY;BYSECOND=" + string.Join(',', Enumerable.Repeat("1", 400_000)), StringComparison.Ordinal) },
        { "many links", PlanText.Replace("\"slots\":1", "\"after\":[" + string.Join(',', Enumerable.Repeat("{\"task\":\"f\"}", 60_000)) + "]", StringComparison.Ordinal) },
        { "quotes", string.Concat(Enumerable.Repeat("\"a\"\"b", 160_000)) },
    };

    [Theory]
    [MemberData(nameof(Documents))]
    public void A_megabyte_meant_to_fill_the_memory_is_refused_within_fifty(string what, string text)
    {
        var utf8 = Encoding.UTF8.GetBytes(text);
        foreach (var read in (Func<IReadOnlyList<Fault>>[])
            [
                () => PlanFile.Read(utf8, Harbour(), new LocalDate(2026, 3, 1)).Faults,
                () => FleetFile.Read(utf8, "f").Faults,
                () => CatalogueFile.Read(utf8, "c", Harbour()).Faults,
                () => CatalogueCsv.Read(utf8, "c.csv", Harbour()).Faults,
            ])
        {
            var before = GC.GetAllocatedBytesForCurrentThread();
            var faults = read();
            var taken = GC.GetAllocatedBytesForCurrentThread() - before;
            Assert.True(faults.Count is > 0 and <= InputBounds.Faults + 10, $"{what}: {faults.Count} faults");
            Assert.True(taken < 50_000_000, $"{what}: {taken / 1_000_000} MB");
            Assert.All(faults, f => Assert.True(f.Member.Length < 10_000 && f.Message.Length < 1_000, $"{what}: {f.Member.Length} {f.Message.Length}"));
        }
    }

    [Theory]
    [InlineData("\"start\":\"2026-01-01\"", "\"start\":\"-9998-01-01\"", "tasks[0].recurrence.start")]
    [InlineData("\"start\":\"2026-01-01\"", "\"start\":\"9998-01-01T00:00:00\"", "tasks[0].recurrence.start")]
    [InlineData("\"slots\":1", "\"windowSeconds\":1e-10", "tasks[0].windowSeconds")]
    [InlineData("\"slots\":1", "\"timeLimitSeconds\":1e-10", "tasks[0].timeLimitSeconds")]
    [InlineData("\"slots\":1", "\"lockSeconds\":1e11", "tasks[0].lockSeconds")]
    [InlineData("\"slots\":1", "\"attempts\":4294967297", "tasks[0].attempts")]
    [InlineData("\"slots\":1", "\"copyTo\":[null]", "tasks[0].copyTo")]
    [InlineData("\"slots\":1", "\"after\":[null]", "tasks[0].after[0]")]
    [InlineData("\"slots\":1", "\"key\":\"a\\u0000b\"", "tasks[0].key")]
    [InlineData("\"slots\":1", "\"key\":\"a\\ud800b\"", "")]
    [InlineData("\"slots\":1", "\"naming\":\"{database}-{kind};id>pwn;$(id)-{date}-{time}\"", "tasks[0].naming")]
    [InlineData("\"slots\":1", "\"naming\":\"-{database}-{kind}-{date}-{time}\"", "tasks[0].naming")]
    [InlineData("\"forSeconds\":86400", "\"yearly\":100000", "tasks[0].keep.yearly")]
    [InlineData("daily 01:00", "every 99999999999 minutes", "tasks[0].recurrence.words")]
    [InlineData("daily 01:00", "FREQ=MONTHLY;BYMONTHDAY=-2147483648", "tasks[0].recurrence.words")]
    [InlineData("daily 01:00", "FREQ=MONTHLY;BYDAY=-2147483648MO", "tasks[0].recurrence.words")]
    [InlineData("daily 01:00", "FREQ=DAILY;UNTIL=99991231T000000Z", "tasks[0].recurrence.words")]
    [InlineData("\"id\":\"p\"", "\"id\":\"-rf\"", "id")]
    public void What_could_not_be_kept_and_read_again_in_a_plan_is_refused_by_name(string instead, string of, string member)
    {
        Assert.NotNull(ReadPlan(PlanText).Value);
        var read = ReadPlan(PlanText.Replace(instead, of, StringComparison.Ordinal));
        Assert.Null(read.Value);
        Assert.Contains(read.Faults, f => f.Member == member);
    }

    [Theory]
    [InlineData("\"coversTo\":\"2026-03-01T02:41:00Z\"", "\"coversTo\":\"-0044-03-15T00:00:00Z\"", "coversTo")]
    [InlineData("\"availableAt\":\"2026-03-01T02:55:00Z\"", "\"availableAt\":\"9999-12-31T23:59:59Z\"", "copies[0].availableAt")]
    [InlineData("\"id\":\"s1\"", "\"id\":\"a;id\"", "id")]
    [InlineData("\"id\":\"s1\"", "\"id\":\"\\u0007\"", "id")]
    [InlineData("\"dataBytes\":4", "\"dataBytes\":9223372036854775807", "dataBytes")]
    [InlineData("\"toPosition\":5", "\"toPosition\":5,\"branch\":4294967297", "branch")]
    [InlineData("\"toPosition\":5", "\"toPosition\":5,\"usableOn\":[null]", "usableOn")]
    [InlineData("\"copies\":[", "\"copies\":[{\"store\":\"near\",\"availableAt\":\"2026-03-01T02:56:00Z\",\"storedBytes\":5},", "copies[1].store")]
    public void What_no_set_can_be_is_refused_by_name(string instead, string of, string member)
    {
        Assert.Empty(FaultsOfSet(SetLine));
        Assert.Contains(FaultsOfSet(SetLine.Replace(instead, of, StringComparison.Ordinal)), f => f.Member == member);
    }

    [Fact]
    public void Bytes_that_are_no_text_are_a_fault_with_the_line()
    {
        byte[] bad = [.. Encoding.UTF8.GetBytes(SetLine + "\n{\"type\":\"set\",\"id\":\""), 0xC3, 0x28, (byte)'"', (byte)'}'];
        Assert.Contains(CatalogueFile.Read(bad, "c", Harbour()).Faults, f => f.Line == 2);
        Assert.NotEmpty(CatalogueCsv.Read(bad, "c.csv", Harbour()).Faults);
    }

    [Theory]
    [InlineData("full,d0,full", 2)]
    [InlineData("fu\"ll,d0,full,1,,,5,,2026-03-01T02:41:00Z,,4,,,,,near,2026-03-01T02:55:00Z,,,4,good", 2)]
    [InlineData("\"full,d0,full,1,,,5,,2026-03-01T02:41:00Z,,4,,,,,near,2026-03-01T02:55:00Z,,,4,good", 2)]
    public void A_row_that_is_short_or_wrongly_quoted_is_a_fault_with_its_line(string row, int line)
    {
        const string header = "id,database,kind,branch,parent,fromPosition,toPosition,coversFrom,coversTo,finishedAt,dataBytes,outsideChain,rollForward,usableOn,key,store,availableAt,removedAt,lockedUntil,storedBytes,state\n";
        const string good = "good,d0,full,1,,,5,,2026-03-01T02:41:00Z,,4,,,,,near,2026-03-01T02:55:00Z,,,4,good\n";
        Assert.Empty(CatalogueCsv.Read(Encoding.UTF8.GetBytes(header + good), "c.csv", Harbour()).Faults);
        var faults = CatalogueCsv.Read(Encoding.UTF8.GetBytes(header + row + "\n" + good), "c.csv", Harbour()).Faults;
        Assert.Contains(faults, f => f.Line == line);
        Assert.Equal("good", Assert.Single(CatalogueCsv.Read(Encoding.UTF8.GetBytes(header + good + row + "\n"), "c.csv", Harbour(), true).Value!.All.SelectMany(c => c.Sets)).Id.Value);
    }

    [Fact]
    public void A_rule_that_never_matches_ends_and_one_that_seldom_does_is_found()
    {
        static IReadOnlyList<Instant> Next(string rule) => new Recurrence(RecurrenceRule.Parse(rule), new LocalDateTime(2026, 3, 1, 0, 0, 1), Oslo).NextAfter(Monday, 3);
        Assert.Empty(Next("FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30"));
        Assert.Empty(Next("FREQ=SECONDLY;INTERVAL=60;BYSECOND=30"));
        Assert.Empty(Next("FREQ=SECONDLY;BYSETPOS=5;BYMINUTE=3"));
        Assert.Empty(Next("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"));
        Assert.Equal([Instant.FromUtc(2028, 2, 28, 23, 0, 0), Instant.FromUtc(2028, 2, 28, 23, 0, 1), Instant.FromUtc(2028, 2, 28, 23, 0, 2)], Next("FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=29"));
    }

    [Fact]
    public void What_is_skipped_by_day_hour_and_minute_is_nothing_that_would_match() => Gen.Select(
        Gen.Int[0, 2], Gen.Int[1, 400], Gen.Int[0, 6], Gen.Int[0, 23], Gen.Int[0, 59], Gen.Int[0, 3], Gen.Int[0, 500]).Sample((unit, every, day, hour, minute, parts, begin) =>
    {
        // Around the days the clock changes, against the rule applied to each step one by one.
        var start = new LocalDateTime(2026, 3, 27, 0, 0).PlusMinutes(begin);
        var (name, step) = unit switch { 0 => ("HOURLY", every * 3600L), 1 => ("MINUTELY", every * 60L), _ => ("SECONDLY", every * 7L) };
        string[] codes = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];
        var byDay = (parts & 1) != 0;
        var byHour = (parts & 2) != 0;
        var rule = $"FREQ={name};INTERVAL={(unit == 2 ? every * 7 : every)}{(byDay ? $";BYDAY={codes[day]}" : "")}{(byHour ? $";BYHOUR={hour}" : "")}{(unit != 0 && byHour ? $";BYMINUTE={minute}" : "")}";
        var from = start.InZoneLeniently(Oslo).ToInstant();
        var to = from + Duration.FromDays(9);
        var expected = new List<Instant>();
        for (var at = from; at < to; at += Duration.FromSeconds(step))
        {
            var local = at.InZone(Oslo).LocalDateTime;
            if ((!byDay || local.DayOfWeek == (IsoDayOfWeek)(day + 1)) && (!byHour || local.Hour == hour) && (unit == 0 || !byHour || local.Minute == minute))
            {
                expected.Add(at);
            }
        }

        Assert.Equal(expected, new Recurrence(RecurrenceRule.Parse(rule), start, Oslo).Between(from, to));
    }, iter: 400);

    [Fact]
    public void A_name_may_not_be_what_a_shell_or_a_path_acts_upon()
    {
        foreach (var bad in (string[])["", "-rf", "..", ".", "a b", "a/b", "a\\b", "a;b", "$(id)", "`id`", "a'b", "a\"b", "a|b", "a>b", "a\nb", "ä", "a\0b", new('a', 201)])
        {
            Assert.NotNull(InputBounds.WhatIsWrongWithId(bad));
        }

        Assert.All((string[])["a", "quay-h1", "A_b.c-9", "..a", new('a', 200)], good => Assert.Null(InputBounds.WhatIsWrongWithId(good)));
    }

    /// <summary>Every format, mutated at random from a seed: never an exception, always a fault or something that is written and read again the same.</summary>
    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    public void A_file_mutated_at_random_is_read_or_refused(int format)
    {
        var fleet = Harbour(2).WithPlans([Usual()]);
        var whole = Encoding.UTF8.GetBytes(format switch { 1 => FleetFile.Write(fleet), 2 => PlanFile.Write(Usual()).ToJsonString(), _ => SetLine + "\n" + SetLine.Replace("s1", "s2", StringComparison.Ordinal) });
        var tries = Environment.GetEnvironmentVariable("IMBREK_HOSTILE") is { Length: > 0 } n ? int.Parse(n, System.Globalization.CultureInfo.InvariantCulture) : 300;
        for (var seed = 0; seed < tries; seed++)
        {
            var mutated = Mutations.Of(whole, new Random((format * 1_000_003) + seed));
            switch (format)
            {
                case 1 when FleetFile.Read(mutated, "f").Value is { } read:
                    Assert.NotNull(FleetFile.Read(Encoding.UTF8.GetBytes(FleetFile.Write(read)), "f").Value);
                    break;
                case 2 when PlanFile.Read(mutated, fleet, new LocalDate(2026, 3, 1)).Value is { } read:
                    var again = PlanFile.Read(Encoding.UTF8.GetBytes(PlanFile.Write(read).ToJsonString()), fleet, new LocalDate(2026, 3, 1));
                    Assert.True(again.Value is not null, $"seed {seed}: {string.Join("; ", again.Faults)}");
                    Assert.Equal(PlanFile.Write(read).ToJsonString(), PlanFile.Write(again.Value).ToJsonString());
                    break;
                case 3 when CatalogueFile.Read(mutated, "c", fleet).Value is { } read:
                    var lines = read.All.SelectMany(c => c.Sets).Select(CatalogueFile.WriteLine).ToArray();
                    var kept = CatalogueFile.Read(Encoding.UTF8.GetBytes(string.Join('\n', lines)), "c", fleet);
                    Assert.Equal(lines, kept.Value!.All.SelectMany(c => c.Sets).Select(CatalogueFile.WriteLine));
                    break;
            }

            _ = CatalogueCsv.Read(mutated, "c.csv", fleet);
        }
    }
}
