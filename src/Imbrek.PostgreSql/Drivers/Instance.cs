using System.Globalization;
using System.Text.Json;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// A restored instance on this machine: a folder with the cluster's data, the log it is brought forward with, and what is known of it. Until it is released it listens on a socket that
/// nobody but its owner can reach, and nowhere else.
/// </summary>
internal sealed class Instance
{
    private const double StopSeconds = 60;

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(150);

    private readonly string folder;
    private string? firstRole;

    private Instance(string folder, State now) => (this.folder, Now) = (folder, now);

    /// <summary>What is known of it, kept beside its data before anybody is told.</summary>
    /// <param name="Owner">The run that made it.</param>
    /// <param name="Port">Its port.</param>
    /// <param name="Role">The role by which Imbrek knows the cluster.</param>
    /// <param name="Restored">The full that lies in it; null before.</param>
    /// <param name="StoppedAt">What it was brought forward to, as asked; null before.</param>
    /// <param name="Reached">The instant it reached; null before.</param>
    /// <param name="Released">Whether clients are let in.</param>
    /// <param name="TrailBefore">The number of the last commit of a trail before its stop, as the log says; null where there is none.</param>
    /// <param name="StopBefore">The position it was to stop before; null when it was to stop at an instant.</param>
    /// <param name="Promoted">Whether its recovery is over for good.</param>
    /// <param name="LastCommit">The newest commit in what was restored, ticks of the Unix epoch; null before.</param>
    /// <param name="Begun">Whether its engine has been started since: it cannot be sent elsewhere any more.</param>
    /// <param name="Follows">How it follows its primary, where it is a standby; null where it stands aside, or was promoted.</param>
    /// <param name="Down">Whether its engine is to stand still: whoever finds it so must not start it.</param>
    /// <param name="Parts">How the parts of a change stand; null where none is rehearsed on it.</param>
    /// <param name="Loaded">Whether it was loaded from an export: it never recovered, and takes no log.</param>
    /// <param name="Place">What taking the place of its cluster comes to, once the branch it begins is known.</param>
    /// <param name="Segments">How the log of the cluster whose place it takes on another host is cut; null before that is known.</param>
    /// <param name="OldData">The data folder of the engine whose place it takes on another host; null before that is known.</param>
    /// <param name="StoodAt">Where its recovery stood still when it was ended to be checked; null where it was not.</param>
    public sealed record State(Guid Owner, int Port, string Role, string? Restored = null, string? StoppedAt = null, string? Reached = null, bool Released = false, long? TrailBefore = null, long? StopBefore = null, bool Promoted = false, long? LastCommit = null, bool Begun = false, Following? Follows = null, bool Down = false, KeptParts? Parts = null, bool Loaded = false, KeptPromotion? Place = null, string? StoodAt = null, Segments? Segments = null, string? OldData = null);

    /// <summary>How a standby follows.</summary>
    /// <param name="Slot">The slot it receives by, at whoever sends to it.</param>
    /// <param name="From">Who sends to it.</param>
    /// <param name="DelaySeconds">By how much it holds back what it received.</param>
    /// <param name="Held">Whether it is to receive nothing for now.</param>
    public sealed record Following(string Slot, Sender From, double DelaySeconds, bool Held = false);

    /// <summary>Where log comes from, and as whom it is asked for.</summary>
    public sealed record Sender(string Address, int Port, string User, string? Credential)
    {
        /// <summary>As an engine is signed in to.</summary>
        public static Sender Of(ISignIn engine) => new(engine.Address, engine.Port, engine.User, engine.Credential);
    }

    /// <summary>Where clients find those that are let in.</summary>
    public const string Address = "127.0.0.1";

    public State Now { get; private set; }

    /// <summary>The cluster's data.</summary>
    public string Data => Path.Combine(folder, "data");

    /// <summary>The log it is brought forward with.</summary>
    public string Log => Path.Combine(folder, "log");

    /// <summary>What was in the place it takes, until that is sure.</summary>
    public string Left => Path.Combine(folder, "left");

    /// <summary>Where its socket is: in its own folder, which nobody but its owner may enter.</summary>
    public string Socket => folder;

    private string Told => Path.Combine(folder, "server.log");

    private string Settings => Path.Combine(Data, "postgresql.auto.conf");

    /// <summary>The password by which it signs in to whoever sends to it: beside its data, so that no copy of that has it.</summary>
    private string Passwords => Path.Combine(folder, "passwords");

    private string AsideRules => Path.Combine(Data, "pg_hba_aside.conf");

    private string OwnRules => Path.Combine(Data, "pg_hba.conf");

    private string OwnIdents => Path.Combine(Data, "pg_ident.conf");

    private string OwnSettings => Path.Combine(folder, "settings-of-the-source.conf");

    /// <summary>Finds one; null when there is none.</summary>
    public static Instance? Find(string folder)
    {
        var file = Path.Combine(folder, "instance.json");
        return File.Exists(file) && JsonSerializer.Deserialize<State>(File.ReadAllBytes(file)) is { } now ? new Instance(folder, now) : null;
    }

    /// <summary>Makes an empty one.</summary>
    public static async Task<Instance> MakeAsync(string folder, Guid owner, string role, CancellationToken cancel)
    {
        LocalEngine.MustTakeSocket(folder);
        var made = new Instance(folder, new State(owner, FreePort.Find(), role));
        await made.KeepAsync(made.Now, cancel);
        return made;
    }

    /// <summary>Keeps what is known of it.</summary>
    public async Task KeepAsync(State now, CancellationToken cancel)
    {
        await FolderStore.WriteWholeAsync(Path.Combine(folder, "instance.json"), JsonSerializer.SerializeToUtf8Bytes(now), cancel);
        Now = now;
    }

    /// <summary>Whether its engine runs.</summary>
    public bool Runs() => Postmaster.Of(Data) is not null;

    /// <summary>Makes an empty cluster in it, for an export to be loaded into, and starts that on its own socket.</summary>
    /// <param name="with">What it is made with.</param>
    /// <param name="cancel">Gives up.</param>
    /// <exception cref="DriverException">It cannot be made; says what the tool said.</exception>
    public async Task MakeClusterAsync(MadeWith with, CancellationToken cancel)
    {
        await KeepAsync(Now with { Role = with.Role, Restored = null, StoppedAt = null, Reached = null, Begun = true, Promoted = true, Loaded = true }, cancel);
        firstRole = null;
        await Tools.GiveToEngineAsync(folder, cancel);
        await Tools.RunAsync(
            Path.Combine(Tools.FolderOf("15"), "initdb"),
            ["--pgdata", Data, "--username", with.Role, "--encoding", with.Encoding, "--lc-collate", with.Collate, "--lc-ctype", with.CType, "--auth-local", "trust", "--auth-host", "scram-sha-256", "--data-checksums"],
            cancel,
            asEngine: true);
        KeepOwnSettings();

        // What is loaded is loaded anew when its engine ends meanwhile; once it is released it has its own settings.
        await SettleAsync(["synchronous_commit = off", "max_wal_size = '4GB'"], "", cancel);
        await StartAsync(cancel);
    }

    /// <summary>Starts its engine to recover up to a target, and to stand still there.</summary>
    /// <param name="target">Settings that say where it stops.</param>
    /// <param name="cancel">Gives up.</param>
    public async Task RecoverAsync(IReadOnlyDictionary<string, string> target, CancellationToken cancel)
    {
        await KeepAsync(Now with { Begun = true }, cancel);
        KeepOwnSettings();
        var lines = new List<string>(await ToRecoverAsync(cancel)) { "recovery_target_action = 'pause'" };
        lines.AddRange(target.Select(t => $"{t.Key} = {Quoted(t.Value)}"));
        await SettleAsync(lines, "", cancel);
        await File.WriteAllTextAsync(Path.Combine(Data, "recovery.signal"), "", cancel);
        File.Delete(Path.Combine(Data, "standby.signal"));
        await StartAsync(cancel);
    }

    /// <summary>Has its engine follow: receive log from a sender, and replay it, with the sign-in rules of its source, on the loopback address. One that runs hears of it; otherwise it is started.</summary>
    /// <exception cref="DriverException">The credential cannot be had, or its engine does not start.</exception>
    public async Task FollowAsync(Following how, CancellationToken cancel)
    {
        await KeepAsync(Now with { Follows = how, Down = false }, cancel);
        KeepOwnSettings();
        Directory.CreateDirectory(Log);
        await using (var file = new FileStream(Passwords, new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write, UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite }))
        {
            await file.WriteAsync(System.Text.Encoding.UTF8.GetBytes(Credentials.ForDriver(how.From.Credential) is not { } password ? "" : $"*:*:*:*:{password.Replace("\\", "\\\\", StringComparison.Ordinal).Replace(":", "\\:", StringComparison.Ordinal)}\n"), cancel);
        }

        var sender = how.Held ? "" : $"host={Word(how.From.Address)} port={how.From.Port} user={Word(how.From.User)} passfile={Word(Passwords)} application_name={Word(how.Slot)} connect_timeout=10";
        await SettleAsync(
            [
                .. await ToRecoverAsync(cancel),
                $"primary_conninfo = {Quoted(sender)}",
                $"primary_slot_name = {Quoted(how.Slot)}",
                string.Create(CultureInfo.InvariantCulture, $"recovery_min_apply_delay = {(long)(how.DelaySeconds * 1000)}"),
                "recovery_target_timeline = 'latest'",
                "wal_retrieve_retry_interval = '1s'",
                $"cluster_name = {Quoted(how.Slot)}",
            ],
            Address,
            cancel);
        await File.WriteAllTextAsync(Path.Combine(Data, "standby.signal"), "", cancel);
        File.Delete(Path.Combine(Data, "recovery.signal"));
        if (Runs())
        {
            await Tools.GiveToEngineAsync(folder, cancel);
            await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_ctl"), ["-D", Data, "reload"], cancel, asEngine: true);
        }
        else
        {
            await StartAsync(cancel);
        }
    }

    /// <summary>Stops its engine; whoever finds it so does not start it.</summary>
    public async Task DownAsync(CancellationToken cancel)
    {
        await KeepAsync(Now with { Down = true }, cancel);
        await StopAsync("fast", cancel);
    }

    /// <summary>Ends its engine in order: nothing is left to recover.</summary>
    public Task EndAsync(CancellationToken cancel) => StopAsync("fast", cancel);

    /// <summary>Gives it the settings and sign-in rules of an engine whose place it takes, as they are now; it must not run.</summary>
    /// <param name="data">The data folder of that engine.</param>
    /// <param name="cancel">Breaks it off.</param>
    public async Task SettleAsAsync(string data, CancellationToken cancel)
    {
        foreach (var name in new[] { "postgresql.conf", "postgresql.auto.conf", "pg_hba.conf", "pg_ident.conf", Path.GetFileName(AsideRules) })
        {
            var (from, to) = (Path.Combine(data, name), Path.Combine(Data, name));
            File.Delete(to);
            if (File.Exists(from))
            {
                File.Copy(from, to);
            }
        }

        await Tools.GiveToEngineAsync(Data, cancel);
    }

    /// <summary>Takes over the settings and sign-in rules of an engine on another host; what says where it lies and listens stays its own.</summary>
    /// <param name="settings">The settings.</param>
    /// <param name="rules">Its sign-in rules.</param>
    /// <param name="idents">Its maps of names.</param>
    /// <param name="data">Its data folder.</param>
    /// <param name="files">Files in that which the settings name.</param>
    /// <param name="cancel">Breaks it off.</param>
    public async Task TakeSettingsAsync(IEnumerable<(string Name, string Value)> settings, string rules, string idents, string data, IEnumerable<string> files, CancellationToken cancel)
    {
        await File.WriteAllLinesAsync(OwnSettings, settings.Select(s => $"{s.Name} = {Quoted(s.Value)}"), cancel);
        await File.WriteAllTextAsync(OwnRules, rules, cancel);
        await File.WriteAllTextAsync(OwnIdents, idents, cancel);
        foreach (var file in files.Where(f => File.Exists(Path.Combine(data, f))))
        {
            Directory.CreateDirectory(Path.GetDirectoryName(Path.Combine(Data, file))!);
            File.Copy(Path.Combine(data, file), Path.Combine(Data, file), overwrite: true);
        }

        await Tools.GiveToEngineAsync(Data, cancel);
    }

    /// <summary>Keeps how the timeline that it will go on in came to be.</summary>
    public Task KeepHistoryAsync(int timeline, string text, CancellationToken cancel) => File.WriteAllTextAsync(Path.Combine(folder, Segments.HistoryOf(timeline)), text, cancel);

    /// <summary>Has it go on in a timeline whose history was kept, with the settings it took over, on its own socket. Its log begins behind a position, and is cut as was said.</summary>
    /// <exception cref="DriverException">A tool cannot, or its engine does not start; says what it said.</exception>
    public async Task GoOnInAsync(int timeline, Lsn behind, CancellationToken cancel)
    {
        await StopAsync("fast", cancel);
        var (bin, history, segments) = (Tools.FolderOf("15"), Segments.HistoryOf(timeline), Now.Segments!.Value);
        await Tools.GiveToEngineAsync(folder, cancel);

        // A tool that was killed has said which timeline it is before it has made the log to begin with.
        var controls = await ControlsAsync(cancel);
        var first = new FileInfo(Path.Combine(Data, "pg_wal", controls["Latest checkpoint's REDO WAL file"]));
        if (controls["Latest checkpoint's TimeLineID"] != timeline.ToString(CultureInfo.InvariantCulture) || !first.Exists || first.Length != segments.Bytes)
        {
            await Tools.RunAsync(
                Path.Combine(bin, "pg_resetwal"),
                ["--wal-segsize", (segments.Bytes >> 20).ToString(CultureInfo.InvariantCulture), "--next-wal-file", segments.NameOf(timeline, new Lsn(behind.Value + segments.Bytes)), "--pgdata", Data],
                cancel,
                asEngine: true);
        }

        File.Copy(Path.Combine(folder, history), Path.Combine(Data, "pg_wal", history), overwrite: true);
        await SettleAsync([], "", cancel);
        await StartAsync(cancel);
    }

    /// <summary>Moves one to where another was, with all it is; it must not run.</summary>
    /// <returns>It, where it is now.</returns>
    public Instance MoveTo(string other)
    {
        Directory.Move(folder, other);
        return new Instance(other, Now);
    }

    /// <summary>Starts its engine again where it was stopped with its machine: it recovers to where it stood.</summary>
    public Task UpAsync(CancellationToken cancel) => Runs() ? Task.CompletedTask : StartAsync(cancel);

    /// <summary>Ends its recovery: it can be written to, on its own socket alone.</summary>
    public async Task PromoteAsync(CancellationToken cancel)
    {
        await UpAsync(cancel);
        if (!Now.Promoted)
        {
            await using (var connection = await OpenAsync(null, cancel))
            {
                if (await connection.AskAsync<bool>("select pg_is_in_recovery()", cancel) && !await connection.AskAsync<bool>("select pg_promote(true, 50)", cancel))
                {
                    throw new DriverException(DriverProblem.Unreachable, "it has not been promoted within 50 s");
                }
            }

            await KeepAsync(Now with { Promoted = true }, cancel);
        }
    }

    /// <summary>Lets clients in: it is one of its own from now on, on the loopback address, with the sign-in rules of its source.</summary>
    public Task ReleaseAsync(CancellationToken cancel) => LetInAsync(Address, null, cancel);

    /// <summary>Lets clients in at addresses.</summary>
    /// <param name="listen">The addresses.</param>
    /// <param name="rules">The rules by which they sign in, and nobody else does; null for those of its source.</param>
    /// <param name="cancel">Gives up.</param>
    public async Task LetInAsync(string listen, string? rules, CancellationToken cancel)
    {
        await PromoteAsync(cancel);
        await StopAsync("fast", cancel);
        await SettleAsync([], listen, cancel, rules);
        await StartAsync(cancel);
        using var timer = new PeriodicTimer(Look);
        while (true)
        {
            try
            {
                await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_isready"), ["-q", "-h", Socket, "-p", Now.Port.ToString(CultureInfo.InvariantCulture)], cancel);
                return;
            }
            catch (DriverException) when (Runs())
            {
                // It lets nobody in yet.
            }
            catch (DriverException)
            {
                throw new DriverException(DriverProblem.Refused, $"its engine ended: {LastWords()}");
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }

    /// <summary>Removes it with everything it took.</summary>
    public async Task RemoveAsync(CancellationToken cancel)
    {
        await StopAsync("immediate", cancel);
        // Under another name first: what is half removed is never found.
        Directory.Move(folder, $"{folder}.{Guid.NewGuid():n}");
        Sweep(folder);
    }

    /// <summary>Removes what is left of one that was being removed when its caller died.</summary>
    public static void Sweep(string folder)
    {
        foreach (var going in Directory.EnumerateDirectories(Path.GetDirectoryName(folder)!, $"{Path.GetFileName(folder)}.*").Where(g => Guid.TryParseExact(g[(folder.Length + 1)..], "n", out _)).ToArray())
        {
            Directory.Delete(going, recursive: true);
        }
    }

    /// <summary>Makes it as it was when it was made: nothing is in it, and its port stays.</summary>
    public async Task AnewAsync(CancellationToken cancel)
    {
        await KeepAsync(new State(Now.Owner, Now.Port, Now.Role), cancel);
        await EmptyAsync(cancel);
    }

    /// <summary>Empties its data, for another base to be restored.</summary>
    public async Task EmptyAsync(CancellationToken cancel)
    {
        await StopAsync("immediate", cancel);
        foreach (var inside in new[] { Data, Log }.Where(Directory.Exists))
        {
            Directory.Delete(inside, recursive: true);
        }

        File.Delete(OwnSettings);
    }

    /// <summary>Opens a connection as the cluster's first superuser; waits until its engine answers.</summary>
    /// <exception cref="DriverException">Its engine ended; says what it wrote last.</exception>
    public Task<NpgsqlConnection> OpenAsync(string? database, CancellationToken cancel) => OpenAsync(database, null, cancel);

    /// <summary>Opens a connection as a role, the cluster's first superuser where none is named; waits until its engine answers.</summary>
    /// <exception cref="DriverException">Its engine ended; says what it wrote last.</exception>
    public async Task<NpgsqlConnection> OpenAsync(string? database, string? role, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(Look);
        while (true)
        {
            try
            {
                var user = role ?? await FirstRoleAsync(cancel);
                return await ConnectAsync(user, database ?? "postgres", cancel);
            }
            catch (Exception e) when (e is NpgsqlException && (e is not PostgresException p || p.SqlState is "57P03"))
            {
                if (!Runs())
                {
                    throw new DriverException(DriverProblem.Refused, $"its engine ended: {LastWords()}");
                }
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }

    private void KeepOwnSettings()
    {
        if (!File.Exists(OwnSettings))
        {
            File.Copy(Settings, OwnSettings);
        }
    }

    /// <summary>What any engine that recovers needs: no less than its source had, wherever that kept its settings, and the log that was brought.</summary>
    private async Task<IReadOnlyList<string>> ToRecoverAsync(CancellationToken cancel)
    {
        var controls = (await ControlsAsync(cancel)).Where(c => c.Key.StartsWith("max_", StringComparison.Ordinal) && c.Key.EndsWith(" setting", StringComparison.Ordinal)).Select(p => (Name: p.Key[..^" setting".Length] switch { "max_prepared_xacts" => "max_prepared_transactions", "max_locks_per_xact" => "max_locks_per_transaction", var n => n }, p.Value));
        return [.. controls.Select(c => $"{c.Name} = {c.Value}"), $"restore_command = {Quoted($"cp {Shell(Path.Combine(Log, "%f"))} \"%p\"")}", "hot_standby = on"];
    }

    /// <summary>What its cluster is by its own account, while it does not run too.</summary>
    private async Task<IReadOnlyDictionary<string, string>> ControlsAsync(CancellationToken cancel) =>
        (await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_controldata"), [Data], cancel)).Split('\n').Select(l => l.Split(':', 2)).Where(p => p.Length == 2).ToDictionary(p => p[0].Trim(), p => p[1].Trim());

    /// <summary>How many errors its engine wrote since it was started.</summary>
    public long Errors()
    {
        using var log = new FileStream(Told, FileMode.OpenOrCreate, FileAccess.Read, FileShare.ReadWrite);
        using var lines = new StreamReader(log);
        var found = 0L;
        while (lines.ReadLine() is { } line)
        {
            found += line.Contains("ERROR:  ", StringComparison.Ordinal) || line.Contains("PANIC:  ", StringComparison.Ordinal) ? 1 : 0;
        }

        return found;
    }

    /// <summary>The end of what its engine wrote.</summary>
    public string LastWords() => LocalEngine.LastWords(Told);

    /// <summary>The name of the role that the cluster was made with; its number is always 10.</summary>
    private async Task<string> FirstRoleAsync(CancellationToken cancel)
    {
        if (firstRole is null)
        {
            foreach (var guess in new[] { Now.Role, "postgres" })
            {
                try
                {
                    await using var connection = await ConnectAsync(guess, "postgres", cancel);
                    firstRole = await connection.AskAsync<string>("select rolname::text from pg_roles where oid = 10", cancel);
                    break;
                }
                catch (PostgresException e) when (e.SqlState is "28000" or "28P01")
                {
                    // There is no such role: the next one.
                }
            }
        }

        return firstRole ?? throw new DriverException(DriverProblem.Refused, "no role of the restored cluster is known");
    }

    private async Task<NpgsqlConnection> ConnectAsync(string user, string database, CancellationToken cancel)
    {
        var connection = new NpgsqlConnection(new NpgsqlConnectionStringBuilder
        {
            Host = Socket,
            Port = Now.Port,
            Username = user,
            Database = database,
            Pooling = false,
            Timeout = 5,
            CommandTimeout = 60,
            ApplicationName = "imbrek",
        }.ConnectionString);
        try
        {
            await connection.OpenAsync(cancel);
            return connection;
        }
        catch
        {
            await connection.DisposeAsync();
            throw;
        }
    }

    /// <summary>Its settings: those of its source, and over them what makes it one that stands aside. Its own rules let in who can reach the socket, and who else is named.</summary>
    private async Task SettleAsync(IReadOnlyList<string> more, string listen, CancellationToken cancel, string? rules = null)
    {
        await File.WriteAllTextAsync(AsideRules, $"# Written by Imbrek: who can reach the socket may in{(rules is null ? "" : ", and who is named")}, and nobody else.\nlocal all all trust\n{rules}", cancel);
        var main = Path.Combine(Data, "postgresql.conf");
        if (!File.Exists(main))
        {
            // A source that keeps its settings outside its data folder does not send them.
            await File.WriteAllTextAsync(main, "", cancel);
        }

        if (!File.Exists(OwnRules))
        {
            await File.WriteAllTextAsync(OwnRules, "local all all trust\n", cancel);
        }

        if (!File.Exists(OwnIdents))
        {
            await File.WriteAllTextAsync(OwnIdents, "", cancel);
        }

        string[] aside =
        [
            $"port = {Now.Port}",
            $"listen_addresses = {Quoted(listen)}",
            $"unix_socket_directories = {Quoted(Socket)}",
            $"hba_file = {Quoted(listen.Length > 0 && rules is null ? OwnRules : AsideRules)}",
            $"ident_file = {Quoted(OwnIdents)}",
            $"data_directory = {Quoted(Data)}",
            "archive_mode = off",
            "primary_conninfo = ''",
            "primary_slot_name = ''",
            "synchronous_standby_names = ''",
            "logging_collector = off",
            "log_destination = 'stderr'",
            "cluster_name = 'restored aside by imbrek'",
        ];
        await File.WriteAllTextAsync(Settings, $"{await File.ReadAllTextAsync(OwnSettings, cancel)}\n{string.Join('\n', aside)}\n{string.Join('\n', more)}\n", cancel);
    }

    private async Task StartAsync(CancellationToken cancel)
    {
        // Two who start it at once, a run and who watches it, would each take away what the other's engine knows itself by.
        using var turn = Turn();
        if (Runs())
        {
            return;
        }

        // One that was killed leaves its marks; their number may be somebody else's by now, or that of a process whose end nobody has asked about.
        File.Delete(Path.Combine(Data, "postmaster.pid"));
        File.Delete(Path.Combine(Socket, $".s.PGSQL.{Now.Port}.lock"));
        await File.WriteAllTextAsync(Told, "", cancel);
        await Tools.GiveToEngineAsync(folder, cancel);
        await Tools.RunAsync(Path.Combine(Tools.FolderOf("15"), "pg_ctl"), ["-D", Data, "-l", Told, "-W", "start"], cancel, asEngine: true, outlives: true);

        // It says that it runs a moment after it was started.
        using var timer = new PeriodicTimer(Look);
        for (var looks = 0; !Runs() && looks * Look.TotalSeconds < StopSeconds && new FileInfo(Told).Length == 0; looks++)
        {
            await timer.WaitForNextTickAsync(cancel);
        }

        await timer.WaitForNextTickAsync(cancel);
    }

    private FileStream Turn()
    {
        try
        {
            return new FileStream(Path.Combine(folder, "starting"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException e)
        {
            throw new DriverException(DriverProblem.Unreachable, $"its engine is being started by another call ({e.Message})");
        }
    }

    private Task StopAsync(string how, CancellationToken cancel) => new LocalEngine(Data).StopAsync(cancel, how);

    private static string Quoted(string value) => $"'{value.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("'", "''", StringComparison.Ordinal)}'";

    /// <summary>A word of a connection string, whatever is in it.</summary>
    public static string Word(string value) => $"'{value.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("'", "\\'", StringComparison.Ordinal)}'";

    /// <summary>A word of a shell, whatever is in it.</summary>
    public static string Shell(string word) => $"\"{word.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal).Replace("$", "\\$", StringComparison.Ordinal).Replace("`", "\\`", StringComparison.Ordinal)}\"";
}
