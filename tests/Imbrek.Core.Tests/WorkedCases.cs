using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The worked cases: figures that must come out, to the millisecond and to 1e-6 of the seconds.</summary>
public class WorkedCases
{
    public static TheoryData<string> Folders() =>
        [.. Directory.GetDirectories(Path.Combine(AppContext.BaseDirectory, "Cases")).Select(d => Path.GetFileName(d)).Order()];

    [Theory]
    [MemberData(nameof(Folders))]
    public void Figures_come_out(string folder)
    {
        var (fleet, catalogue, questions) = Load(folder);
        foreach (var q in questions.EnumerateArray())
        {
            var at = Time(q.GetProperty("at"))!.Value;
            Assert.True(Loss.TryParse(q.GetProperty("loss").GetString()!, fleet, out var loss, out var error), error);
            var from = q.TryGetProperty("from", out var f) ? Time(f) : null;
            foreach (var expected in q.GetProperty("evaluate").EnumerateArray())
            {
                var database = fleet.DatabaseById[new(expected.GetProperty("database").GetString()!)];
                var subject = RecoverySubject.Of(fleet, database, catalogue.Of(database.Id));
                var e = Evaluator.Evaluate(subject, loss, at, from);
                var where = $"{folder} {database.Id} {at} {loss}";
                Assert.Equal(
                    expected.GetProperty("recoverable").EnumerateArray().Select(i => (Time(i.GetProperty("from")), Time(i.GetProperty("to")))),
                    e.Recoverable.Select(i => ((Instant?)i.From, (Instant?)i.To)));
                Assert.Equal(Time(expected.GetProperty("latest")), e.Latest);
                Near(expected, "exposureSeconds", e.ExposureSeconds, where);
                if (expected.TryGetProperty("window", out var w))
                {
                    Near(w, "worstExposureSeconds", e.Window!.WorstExposureSeconds, where);
                    Assert.Equal(Time(w.GetProperty("worstAt")), e.Window.WorstAt);
                    Near(w, "secondsOverRpo", e.Window.SecondsOverRpo, where);
                    Near(w, "secondsUnprotected", e.Window.SecondsUnprotected, where);
                }
            }
        }
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void Paths_come_out(string folder)
    {
        var (fleet, catalogue, questions) = Load(folder);
        foreach (var p in questions.EnumerateArray().Where(q => q.TryGetProperty("path", out _)).Select(q => q.GetProperty("path")))
        {
            var database = fleet.DatabaseById[new(p.GetProperty("database").GetString()!)];
            Assert.True(Loss.TryParse(p.GetProperty("loss").GetString()!, fleet, out var loss, out var error), error);
            var host = p.TryGetProperty("host", out var named) && named.GetString() is { } id ? new Id<Host>(id) : (Id<Host>?)null;
            var question = new PathQuestion { Target = Time(p.GetProperty("target"))!.Value, At = Time(p.GetProperty("at"))!.Value, Loss = loss, Choice = new(host) };
            var answer = WayFinder.Find(RecoverySubject.Of(fleet, database, catalogue.Of(database.Id)), question, 4);
            var expect = p.GetProperty("expect");
            var where = $"{folder} {database.Id} {question.Target} {loss}";
            Assert.Equal(Time(expect.GetProperty("reaches")), answer.Best?.Reaches);
            Assert.Equal(expect.GetProperty("host").GetString(), answer.Host?.Value);
            Near(expect, "seconds", answer.Best?.Seconds, where);
            if (expect.TryGetProperty("replica", out var replica))
            {
                Assert.Equal(replica.GetString(), (answer.Best as TakeOver)?.Replica.Value);
            }

            Assert.Equal(answer.Best is null, answer.Reason is not null);
            if (answer.Best is { } best)
            {
                Near(expect, "lostSeconds", best.LostSeconds, where);
                Near(expect, "serviceSeconds", best.ServiceSeconds, where);
                Assert.All(answer.Alternatives.Where(a => a.Host == best.Host), a => Assert.True(
                    a.Reaches < best.Reaches || (a.Reaches == best.Reaches && a.Seconds >= best.Seconds), where));
            }
        }
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void Replicas_come_out(string folder)
    {
        var (fleet, catalogue, questions) = Load(folder);
        foreach (var q in questions.EnumerateArray().Where(q => q.TryGetProperty("replicas", out _)))
        {
            var at = Time(q.GetProperty("at"))!.Value;
            Assert.Equal(q.GetProperty("replicas").EnumerateArray().Select(r => r.GetProperty("replica").GetString()), fleet.ReplicaList.Select(r => r.Id.Value));
            foreach (var expected in q.GetProperty("replicas").EnumerateArray())
            {
                var replica = fleet.Replicas[new(expected.GetProperty("replica").GetString()!)];
                var subject = RecoverySubject.Of(fleet, fleet.DatabaseById[replica.Database], catalogue.Of(replica.Database));
                var f = Watch.Of(subject, subject.Replicas.Single(r => r.Replica.Id == replica.Id), at);
                var where = $"{folder} {replica.Id} {at}";
                Near(expected, "receivedLagSeconds", f.ReceivedLagSeconds, where);
                Near(expected, "appliedLagSeconds", f.AppliedLagSeconds, where);
                Near(expected, "backlogBytes", f.BacklogBytes, where);
                Near(expected, "catchUpSeconds", f.CatchUpSeconds, where);
                Near(expected, "readCatchUpSeconds", f.ReadCatchUpSeconds, where);
                Near(expected, "toleratedOutageSeconds", f.ToleratedOutageSeconds, where);
                Near(expected, "roomSeconds", f.RoomSeconds, where);
                Near(expected, "byDesignSeconds", f.ByDesignSeconds, where);
                Near(expected, "readByDesignSeconds", f.ReadByDesignSeconds, where);
                Near(expected, "waitMs", f.WaitMs, where);
                Near(expected, "seedSeconds", f.Seed?.Seconds, where);
                Assert.Equal((where, expected.GetProperty("seedBy").GetString()), (where, f.Seed is null ? null : f.Seed.ByBackup ? "backup" : "copy"));
                Assert.Equal((where, expected.GetProperty("state").GetString()), (where, JsonNamingPolicy.CamelCase.ConvertName(f.State.ToString())));
            }
        }
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void Drills_come_out(string folder)
    {
        var (fleet, catalogue, questions) = Load(folder);
        foreach (var q in questions.EnumerateArray().Where(q => q.TryGetProperty("drill", out _)).Select(q => q.GetProperty("drill")))
        {
            var database = fleet.DatabaseById[new(q.GetProperty("database").GetString()!)];
            var subject = RecoverySubject.Of(fleet, database, catalogue.Of(database.Id));
            var source = subject.Replicas.Single(r => r.Replica.Id.Value == q.GetProperty("to").GetString());
            var at = Time(q.GetProperty("at"))!.Value;
            var planned = q.GetProperty("kind").GetString() == "forced" ? PlannedDrill.Forced(subject, source, at, Loss.Of(database.Host)) : PlannedDrill.Switchover(subject, source, at);
            var (expect, where) = (q.GetProperty("expect"), $"{folder} {source.Replica.Id} {at}");
            Assert.Equal((where, expect.GetProperty("refused").GetBoolean()), (where, planned.Refused.Count > 0));
            Near(expect, "lostSeconds", planned.LostSeconds, where);
            Near(expect, "lostBytes", planned.LostBytes, where);
            Near(expect, "writeStopSeconds", planned.WriteStopSeconds, where);
            Near(expect, "serviceSeconds", planned.ServiceSeconds, where);
            Assert.Equal(expect.TryGetProperty("approval", out var approval) ? approval.GetBoolean() : null, planned.Approval);
        }
    }

    [Theory]
    [MemberData(nameof(Folders))]
    public void Common_instants_come_out(string folder)
    {
        var (fleet, catalogue, questions) = Load(folder);
        foreach (var q in questions.EnumerateArray().Where(q => q.TryGetProperty("common", out _)))
        {
            var (asked, at) = (q.GetProperty("common"), Time(q.GetProperty("at"))!.Value);
            var wanted = asked.GetProperty("databases").EnumerateArray().Select(d => d.GetString()!).ToHashSet();
            Assert.True(Loss.TryParse(q.GetProperty("loss").GetString()!, fleet, out var loss, out _));
            var common = CommonInstant.Of([.. fleet.Databases.Where(d => wanted.Contains(d.Id.Value)).Select(d => RecoverySubject.Of(fleet, d, catalogue.Of(d.Id)))], loss, at, at);
            var (expect, where) = (asked.GetProperty("expect"), $"{folder} {at}");
            Assert.Equal((where, Time(expect.GetProperty("latest"))), (where, common.Latest));
            Assert.Equal(expect.GetProperty("holdsBack").EnumerateArray().Select(d => d.GetString()), common.HoldsBack.Select(d => d.Value));
            foreach (var (e, own) in expect.GetProperty("each").EnumerateArray().Zip(common.Each))
            {
                Assert.Equal((where, e.GetProperty("database").GetString(), Time(e.GetProperty("latest"))), (where, own.Database.Value, own.Latest));
                Near(e, "givesUpSeconds", own.GivesUpSeconds, where);
            }
        }
    }

    internal static (FleetModel Fleet, BackupCatalogue Catalogue, JsonElement Questions) Load(string folder)
    {
        var path = Path.Combine(AppContext.BaseDirectory, "Cases", folder);
        var fleet = FleetFile.Read(File.ReadAllBytes(Path.Combine(path, "fleet.json")), "fleet.json");
        Assert.Empty(fleet.Faults);
        var catalogue = CatalogueFile.Read(File.ReadAllBytes(Path.Combine(path, "catalog.jsonl")), "catalog.jsonl", fleet.Value!);
        Assert.Empty(catalogue.Faults);
        return (fleet.Value!, catalogue.Value!, JsonDocument.Parse(File.ReadAllBytes(Path.Combine(path, "expected.json"))).RootElement);
    }

    private static Instant? Time(JsonElement e) =>
        e.ValueKind == JsonValueKind.Null ? null : Instants.TryParse(e.GetString()!, out var t) ? t : throw new FormatException(e.GetRawText());

    private static void Near(JsonElement o, string member, double? actual, string where)
    {
        if (!o.TryGetProperty(member, out var e) || e.ValueKind == JsonValueKind.Null)
        {
            Assert.True(actual is null, $"{where}: {member} should be null, is {actual}");
            return;
        }

        var expected = e.GetDouble();
        Assert.True(
            actual is { } a && Math.Abs(a - expected) <= Math.Max(1e-6 * Math.Abs(expected), 1e-9),
            $"{where}: {member} should be {expected}, is {actual}");
    }
}
