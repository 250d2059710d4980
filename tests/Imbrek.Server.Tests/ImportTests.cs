using Xunit;

namespace Imbrek.Server.Tests;

/// <summary>What comes in by the open files, and goes out again.</summary>
public sealed class ImportTests : OwnFiles
{
    [Fact]
    public async Task A_first_import_that_is_taken_over_as_it_was_read_is_what_is_read_back()
    {
        // More than are put in row by row: the state is made of what was read, not of what PostgreSQL holds.
        var more = string.Concat(Enumerable.Range(0, 11_000).Select(i =>
            $$"""{"type": "set", "id": "more-{{i}}", "database": "tickets", "kind": "export", "toPosition": {{i}}, "coversTo": "2026-02-01T{{i / 3600:00}}:{{i / 60 % 60:00}}:{{i % 60:00}}.{{i % 1000:000}}Z", "dataBytes": 7, "copies": [{"store": "quay-s1", "availableAt": "2026-02-02T00:00:00Z", "storedBytes": {{i}}}]}""" + "\n"));
        var (status, body) = await ImportAsync(Case("fleet.json"), more + Case("catalog.jsonl"));
        Assert.Equal((200, 11_008), (status, body.GetProperty("sets").GetInt32()));
        async Task<string> LookAsync() =>
            await Admin.GetTextAsync("/api/export/catalogue") + (await Admin.GetAsync("/api/fleet?loss=site&at=2026-03-02T07:30:00Z")).GetProperty("rows");
        var taken = await LookAsync();

        // A fleet alone has everything read again.
        Assert.Equal(200, (await ImportAsync(Case("fleet.json"), null)).Status);
        Assert.Equal(taken, await LookAsync());
        Assert.Equal(11_008L, await Server.QueryAsync<long>("select count(*) from backup_sets"));
    }

    [Fact]
    public async Task A_copy_made_again_in_the_same_store_is_taken_as_the_last_of_the_two_with_a_warning()
    {
        const string first = """{"store": "quay-s1", "availableAt": "2026-03-02T01:10:00.000Z", """;
        Assert.Contains(first, Case("catalog.jsonl"), StringComparison.Ordinal);
        var (status, body) = await ImportAsync(
            Case("fleet.json"),
            Case("catalog.jsonl").Replace(first, """{"store": "quay-s1", "availableAt": "2026-03-02T01:00:00.000Z", "removedAt": "2026-03-02T01:05:00.000Z", "storedBytes": 1}, """ + first, StringComparison.Ordinal));
        Assert.Equal(200, status);
        Assert.Contains("several copies", body.GetProperty("warnings")[0].GetProperty("message").GetString(), StringComparison.Ordinal);
        Assert.Equal(1L, await Server.QueryAsync<long>("select count(*) from backup_copies where store = 'quay-s1' and available_at = '2026-03-02T01:10:00Z' and removed_at is null"));
        Assert.Equal(0L, await Server.QueryAsync<long>("select count(*) from backup_copies where available_at = '2026-03-02T01:00:00Z'"));
    }

    [Fact]
    public async Task Wrong_files_list_every_fault_and_change_nothing_and_right_ones_come_back_the_same()
    {
        var (status, body) = await ImportAsync(
            Case("fleet.json"),
            Case("catalog.jsonl").Replace("\"toPosition\": 1200", "\"toPosition\": 1", StringComparison.Ordinal).Replace("\"store\": \"hill-s1\", \"availableAt\": \"2026-03-02T04:50:00.000Z\"", "\"store\": \"hill-s9\", \"availableAt\": \"soon\"", StringComparison.Ordinal));
        Assert.Equal(422, status);
        var faults = body.GetProperty("faults").EnumerateArray().Select(f => (f.GetProperty("line").GetInt32(), f.GetProperty("member").GetString())).ToArray();
        Assert.Equal([(2, "copies[1].store"), (2, "copies[1].availableAt"), (4, "toPosition")], faults);
        Assert.Equal(0L, await Server.QueryAsync<long>("select count(*) from backup_sets"));
        Assert.Equal(0L, await Server.QueryAsync<long>("select count(*) from fleet_versions"));
        Assert.Equal(0, (await Admin.GetAsync("/api/fleet")).GetProperty("total").GetInt32());

        (status, body) = await ImportAsync(Case("fleet.json"), Case("catalog.jsonl"));
        Assert.Equal(200, status);
        Assert.Equal(8, body.GetProperty("sets").GetInt32());
        var row = (await Admin.GetAsync("/api/fleet?loss=site&at=2026-03-02T07:30:00Z")).GetProperty("rows")[0];
        Assert.Equal(10800, row.GetProperty("couldLoseSeconds").GetDouble());
        Assert.Equal(10800, row.GetProperty("worstSeconds").GetDouble());

        // Out and in again: the same figures, nothing doubled.
        var fleet = await Admin.Http.GetStringAsync("/api/export/fleet");
        var catalogue = await Admin.Http.GetStringAsync("/api/export/catalogue");
        Assert.Equal(200, (await ImportAsync(fleet, catalogue)).Status);
        Assert.Equal(8L, await Server.QueryAsync<long>("select count(*) from backup_sets"));
        Assert.Equal(fleet, await Admin.Http.GetStringAsync("/api/export/fleet"));
        Assert.Equal(catalogue, await Admin.Http.GetStringAsync("/api/export/catalogue"));
        Assert.True((await Admin.GetAsync("/api/ledger/verify")).GetProperty("holds").GetBoolean());
    }

    [Fact]
    public async Task Bad_lines_are_skipped_only_when_asked_and_then_named()
    {
        var (status, body) = await ImportAsync(Case("fleet.json"), Case("catalog.jsonl") + "\nnot json\n", skip: true);
        Assert.Equal(200, status);
        Assert.Equal(8, body.GetProperty("sets").GetInt32());
        Assert.Equal(1, body.GetProperty("faults").GetArrayLength());
    }
}
