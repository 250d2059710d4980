using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Planning;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using NodaTime;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A cluster exported while it is written to, and loaded again: all that anybody was told of is there, with its roles and every database, and whatever is wrong with an export is said before it is needed.</summary>
public class ExportTests
{
    private static readonly RunCall Anybody = new(Guid.NewGuid(), 1);

    private static async Task<BackupSet> ExportAsync(Harbour h, RunCall call)
    {
        var taken = await h.Backup.TakeAsync(call, new TakeSpec("harbour", SetKind.Export, "shelf", Compression.Light, null, SetNaming.Default, false, true, null), default);
        h.Keep(taken.Set!);
        return taken.Set!;
    }

    private static SetCopy Copy(BackupSet s, string store = "shelf") => new(s.Id, new(store));

    private static string Exports(Harbour h) => Path.GetDirectoryName(h.Folder.Export("harbour", "x"))!;

    private static async Task<Harbour> WithMoreAsync()
    {
        var h = await Harbour.StartAsync();
        await h.Cluster.DoAsync("create role \"odd Clerk\" login password 'not-kept-anywhere-else' valid until '2030-01-01'");
        await h.Cluster.DoAsync("create database \"odd name's\" owner \"odd Clerk\"");
        await using (var inside = await h.Cluster.OpenAsync(database: "odd name's"))
        await using (var make = new Npgsql.NpgsqlCommand("create table kept as select i, repeat('y', 200) t from generate_series(1, 5000) i; create unique index on kept (i); create sequence s start 7; select nextval('s'); create view v as select count(*) from kept; grant select on kept to \"odd Clerk\"", inside))
        {
            await make.ExecuteNonQueryAsync();
        }

        return h;
    }

    [Fact]
    public async Task Taken_while_it_is_written_to_and_loaded_all_that_was_told_before_is_there_with_its_roles_and_every_database()
    {
        await using var h = await WithMoreAsync();
        var enough = false;
        var walking = h.WalkAsync(3, () => enough);
        await h.WaitAsync(() => h.Now is not null, "receiving");
        var call = new RunCall(Guid.NewGuid(), 1);
        var set = await ExportAsync(h, call);

        // Asked again it says the same and takes nothing.
        var again = await h.Backup.TakeAsync(call with { Fence = 2 }, new TakeSpec("harbour", SetKind.Export, "shelf", Compression.Light, null, SetNaming.Default, false, true, null), default);
        Assert.Equal((set.Id, set.CoversTo, 0.0), (again.Set!.Id, again.Set.CoversTo, again.Seconds));
        Assert.Equal(set.Id.Value, Path.GetFileName(Assert.Single(Directory.EnumerateDirectories(Exports(h)))));
        enough = true;
        var told = await walking;
        var owner = Guid.NewGuid();
        var (mine, instance) = (new RunCall(owner, 1), new InstanceSpec("loaded", new("harbour"), new("quay"), owner));
        await h.Restore.ProvisionAsync(mine, instance, default);

        // Broken off, and begun anew.
        using (var soon = new CancellationTokenSource(TimeSpan.FromMilliseconds(900)))
        {
            await Assert.ThrowsAnyAsync<Exception>(() => h.Restore.RestoreSetAsync(mine, instance, Copy(set), soon.Token));
        }

        var moved = await h.Restore.RestoreSetAsync(mine with { Fence = 2 }, instance, Copy(set), default);
        Assert.Equal((set.CoversTo, true), (moved.Reached!.Value, moved.Bytes > 0 && moved.Seconds > 0));
        Assert.Equal(0, (await h.Restore.RestoreSetAsync(mine with { Fence = 2 }, instance, Copy(set), default)).Bytes);
        mine = mine with { Fence = 2 };
        Assert.Equal(set.CoversTo, (await h.Restore.OpenAsync(mine, instance, default)).Reached);
        var checks = await h.Restore.CheckAsync(mine, instance, set.CoversTo, new CheckWish("select count(*) > 0 as walked from imbrek_trail"), default);
        Assert.All(checks, c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
        Assert.Superset(new HashSet<string> { "trail", "database postgres", "database odd name's", "structure" }, checks.Select(c => c.Name).ToHashSet());
        await Assert.ThrowsAsync<DriverException>(() => h.Restore.ApplyLogsAsync(mine, instance, [Copy(set)], null, _ => { }, default));

        var there = Instance.Find(Path.Combine(h.Instances, "loaded"))!;
        HashSet<long> have;
        await using (var inside = await there.OpenAsync("postgres", default))
        {
            have = [.. await inside.RowsAsync("select xid from imbrek_trail", r => r.GetInt64(0), default)];
            Assert.True(await inside.AskAsync<bool>("select rolcanlogin and rolvaliduntil = '2030-01-01' from pg_roles where rolname = 'odd Clerk'", default));
        }

        Assert.Empty(told.Where(t => t.Told <= set.CoversTo).Select(t => t.Transaction).Except(have));
        await using (var inside = await there.OpenAsync("odd name's", default))
        {
            Assert.Equal(5000, await inside.AskAsync<long>("select count(*) from kept", default));
            Assert.Equal(8, await inside.AskAsync<long>("select nextval('s')", default));
            Assert.Equal(5000, await inside.AskAsync<float>("select reltuples from pg_class where relname = 'kept'", default));
            Assert.Equal("odd Clerk", await inside.AskAsync<string>("select pg_get_userbyid(datdba)::text from pg_database where datname = current_database()", default));
        }

        // What was written into it is not what was dumped, and it is seen.
        await using (var inside = await there.OpenAsync("odd name's", default))
        await using (var drop = new Npgsql.NpgsqlCommand("drop view v", inside))
        {
            await drop.ExecuteNonQueryAsync();
        }

        Assert.False((await h.Restore.CheckAsync(mine, instance, set.CoversTo, null, default)).Single(c => c.Name == "database odd name's").Passed);
        await h.Restore.ReleaseAsync(mine, instance, default);
        await using (var clerk = new Npgsql.NpgsqlConnection($"Host=127.0.0.1;Port={there.Now.Port};Username=odd Clerk;Password=not-kept-anywhere-else;Database=odd name's;Pooling=false"))
        {
            await clerk.OpenAsync();
            Assert.Equal(5000, await clerk.AskAsync<long>("select count(*) from kept", default));
        }

        await h.Restore.DiscardAsync(mine, instance, default);
        Assert.Empty(Directory.EnumerateFileSystemEntries(h.Instances));
    }

    [Fact]
    public async Task A_flipped_bit_a_missing_and_a_strange_file_are_found_and_a_whole_one_is_copied_and_removed()
    {
        await using var h = await WithMoreAsync();
        var set = await ExportAsync(h, new(Guid.NewGuid(), 1));
        var copied = await h.Backup.CopyAsync(new(Guid.NewGuid(), 1), new("harbour"), set.Id, new("hill"), null, default);
        h.Keep(set = copied.Set!);
        async Task<(CopyState State, string? Note)> ReadAsync(string store)
        {
            var read = (await h.Backup.ReadBackAsync(Anybody, new("harbour"), [Copy(set, store)], default))[0];
            return (read.Set!.Copies.Single(c => c.Store.Value == store).State, read.Note);
        }

        Assert.Equal(CopyState.Good, (await ReadAsync("hill")).State);
        var folder = h.Folder.Export("harbour", set.Id.Value);
        var file = Directory.EnumerateFiles(folder, "*.dat.gz", SearchOption.AllDirectories).First();
        var good = await File.ReadAllBytesAsync(file);
        async Task IsDamagedAsync(string why)
        {
            var (state, note) = await ReadAsync("shelf");
            Assert.Equal(CopyState.Damaged, state);
            Assert.Contains(why, note, StringComparison.Ordinal);
            var owner = Guid.NewGuid();
            var spec = new InstanceSpec("broken", new("harbour"), new("quay"), owner);
            await h.Restore.ProvisionAsync(new(owner, 1), spec, default);
            var refused = await Assert.ThrowsAsync<DriverException>(() => h.Restore.RestoreSetAsync(new(owner, 1), spec, Copy(set), default));
            Assert.Equal((DriverProblem.CopyDamaged, Copy(set)), (refused.Problem, refused.Copy!));
            await h.Restore.DiscardAsync(new(owner, 1), spec, default);
        }

        await File.WriteAllBytesAsync(file, [.. good[..^1], (byte)(good[^1] ^ 1)]);
        await IsDamagedAsync("its SHA-256 differs");
        File.Delete(file);
        await IsDamagedAsync("is missing");
        await File.WriteAllBytesAsync(file, good);
        await File.WriteAllTextAsync(Path.Combine(folder, "database-1", "more.dat"), "x");
        await IsDamagedAsync("was not written with it");
        File.Delete(Path.Combine(folder, "database-1", "more.dat"));
        var note = Path.Combine(folder, "export.json");
        await File.WriteAllTextAsync(note, (await File.ReadAllTextAsync(note)).Replace("odd name", "odd Name", StringComparison.Ordinal));
        await IsDamagedAsync("is not what was written");

        // The other copy is as good as it was; removed, nothing of it is left.
        Assert.Equal(CopyState.Good, (await ReadAsync("hill")).State);
        Assert.All(await h.Backup.RemoveAsync(Anybody, new("harbour"), [Copy(set), Copy(set, "hill")], default), t => Assert.Contains(t.Set!.Copies, c => c.RemovedAt is not null));
        Assert.Empty(Directory.EnumerateFileSystemEntries(Exports(h)));
    }

    [Fact]
    public async Task What_it_may_not_see_whole_or_has_no_room_for_is_refused_and_leaves_nothing()
    {
        await using var h = await WithMoreAsync();
        await h.Cluster.DoAsync("update pg_database set datallowconn = false where datname = 'odd name''s'");
        var refused = await Assert.ThrowsAsync<DriverException>(() => ExportAsync(h, new(Guid.NewGuid(), 1)));
        Assert.Contains("may not connect to database odd name's", refused.Message, StringComparison.Ordinal);
        Assert.Empty(Directory.EnumerateFileSystemEntries(Exports(h)));
        await h.Cluster.DoAsync("update pg_database set datallowconn = true where datname = 'odd name''s'");

        // The same for a role that is no superuser, and for one that may connect and not read.
        await h.Cluster.DoAsync("create role plain login; revoke connect on database \"odd name's\" from public");
        h.User = "plain";
        foreach (var why in new[] { "may not connect to database odd name's", "permission denied" })
        {
            var told = await Assert.ThrowsAsync<DriverException>(() => ExportAsync(h, new(Guid.NewGuid(), 1)));
            Assert.Equal(DriverProblem.Refused, told.Problem);
            Assert.Contains(why, told.Message, StringComparison.Ordinal);
            Assert.Empty(Directory.EnumerateFileSystemEntries(Exports(h)));
            await h.Cluster.DoAsync("grant connect on database \"odd name's\" to plain");
        }

        // Who may read all of it, and is no superuser, gets it with its roles and without their passwords.
        await h.Cluster.DoAsync("grant pg_read_all_data to plain");
        var roles = await File.ReadAllTextAsync(Path.Combine(h.Folder.Export("harbour", (await ExportAsync(h, new(Guid.NewGuid(), 1))).Id.Value), "roles.sql"));
        Assert.Contains("odd Clerk", roles, StringComparison.Ordinal);
        Assert.DoesNotContain("PASSWORD", roles, StringComparison.Ordinal);
        Directory.Delete(Exports(h), recursive: true);
        Directory.CreateDirectory(Exports(h));
        h.User = "imbrek";
        h.Capacity = 1000;
        Assert.Equal(DriverProblem.NoRoom, (await Assert.ThrowsAsync<DriverException>(() => ExportAsync(h, new(Guid.NewGuid(), 1)))).Problem);
        h.Capacity = null;
        Assert.Empty(Directory.EnumerateFileSystemEntries(Exports(h)));

        // Broken off on the way, the run that takes it up begins anew and leaves nothing but its export.
        var call = new RunCall(Guid.NewGuid(), 1);
        using (var soon = new CancellationTokenSource(TimeSpan.FromMilliseconds(150)))
        {
            await Assert.ThrowsAnyAsync<Exception>(() => h.Backup.TakeAsync(call, new TakeSpec("harbour", SetKind.Export, "shelf", Compression.Light, null, SetNaming.Default, false, true, null), soon.Token));
        }

        var set = await ExportAsync(h, call with { Fence = 2 });
        Assert.Equal(set.Id.Value, Path.GetFileName(Assert.Single(Directory.EnumerateFileSystemEntries(Exports(h)))));
        Assert.Equal(0, await h.Cluster.AskAsync<long>("select count(*) from pg_stat_activity where state like 'idle in transaction%' and application_name = 'imbrek'"));
    }
}
