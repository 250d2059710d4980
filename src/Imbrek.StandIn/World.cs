using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Drills;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Replication;
using Imbrek.StandIn.Scenario;
using Imbrek.StandIn.Storage;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>
/// The simulated world: databases that live, tasks that back them up as real bytes, bandwidth shared among what runs at once, one
/// clock. It moves only when told to (<see cref="Advance"/>); the same script gives the same history, byte for byte.
/// </summary>
public sealed class World : IDisposable
{
    private readonly WorldScript script;
    private readonly Dictionary<Id<Database>, SimulatedDatabase> databases;
    private readonly FairShare network = new();
    private readonly OwnPlans? plans;
    private readonly WorldJournal? journal;
    private readonly List<WorldChange> changes = [];
    private readonly bool inHistory;
    private int historyDays;
    private long now;

    /// <summary>Begins a world at the start of its history, or goes on where one stopped.</summary>
    /// <param name="folder">Where stores and instances keep their bytes.</param>
    /// <param name="script">The script.</param>
    /// <param name="resume">What an earlier process remembered; null to begin.</param>
    /// <param name="known">The sets that the product knows of; only with <paramref name="resume"/>.</param>
    /// <param name="pauses">Times in which runs do not start.</param>
    public World(string folder, WorldScript script, WorldState? resume = null, IEnumerable<BackupSet>? known = null, IReadOnlyList<Blackout>? pauses = null)
        : this(folder, script, resume, known, pauses, null, null)
    {
    }

    private World(
        string folder, WorldScript script, WorldState? resume, IEnumerable<BackupSet>? known, IReadOnlyList<Blackout>? pauses, WorldJournal? journal, WorldJournal.Kept? kept)
    {
        (this.journal, historyDays) = (journal, resume?.HistoryDays ?? 0);
        this.script = script;
        Folder = folder;
        Fleet = resume is null ? script.Fleet : WithOwn(script.Fleet, resume);
        now = resume?.Now ?? script.Begins.ToUnixTimeMilliseconds();
        inHistory = resume is null;
        databases = script.Databases.ToDictionary(
            d => d.Id,
            d => new SimulatedDatabase(Fleet.DatabaseById[d.Id], d, script.Seed, script.Begins, resume?.Databases.GetValueOrDefault(d.Id.Value), KeepsLog(Fleet.DatabaseById[d.Id])));
        foreach (var (id, state) in resume?.Databases.Where(d => d.Value.Birth is not null) ?? [])
        {
            databases[new(id)] = Made(Fleet.DatabaseById[new(id)], state);
        }

        Copies = new Copies(this);
        Answers = new Answers(this, journal, kept);
        Routes.SetCapacities(network, Fleet);
        network.Advance(now);
        Faults = new Faults(this, resume);
        Agenda = new Agenda(now);
        Outsiders = new Outsiders(Gate, () => now, held: journal is not null, inHistory);
        Work = new BackupWork(this);
        if (journal is null)
        {
            // Otherwise plans are told by whoever acts in it: until then each keeps its log as it did, whatever the script says.
            KeepLogs();
        }

        Replicas = new WorldReplicas(this);
        Drills = new WorldDrills(this);
        plans = journal is null ? new OwnPlans(this, pauses ?? []) : null;
        if (resume is null)
        {
            Replicas.Load(Fleet);
            ScheduleHistory();
        }
        else
        {
            Resume(resume, known ?? []);
        }
    }

    /// <summary>Seconds of the world a second of the wall clock, as whoever leads it decided; 0 is paused.</summary>
    public double Pace { get; set; } = 1;

    /// <summary>Serializes all that touches the world.</summary>
    public Lock Gate { get; } = new();

    /// <summary>Where stores and instances keep their bytes.</summary>
    public string Folder { get; }

    /// <summary>The fleet of the world.</summary>
    public FleetModel Fleet { get; internal set; }

    /// <summary>The world's clock.</summary>
    public Instant Now => Instant.FromUnixTimeMilliseconds(Volatile.Read(ref now));

    /// <summary>When something happens next.</summary>
    public Instant? NextEvent
    {
        get
        {
            lock (Gate)
            {
                var next = Math.Min(network.NextDone(), Agenda.Next == long.MaxValue ? double.PositiveInfinity : Agenda.Next);
                return double.IsPositiveInfinity(next) ? null : Instant.FromUnixTimeMilliseconds((long)Math.Ceiling(next));
            }
        }
    }

    /// <summary>Bytes in all stores.</summary>
    public long StoredBytes => Copies.Bytes;

    /// <summary>What goes wrong, and having it go wrong.</summary>
    public Faults Faults { get; }

    /// <summary>Its replicas.</summary>
    public WorldReplicas Replicas { get; }

    /// <summary>Who looks on at drills.</summary>
    internal WorldDrills Drills { get; }

    /// <summary>Databases on its hosts that are not in its fleet.</summary>
    internal IReadOnlyList<Neighbour> Neighbours => script.Neighbours;

    /// <summary>How many times the size that the fleet says a database has.</summary>
    internal double GrownBy(Id<Database> database) => script.GrownBy.GetValueOrDefault(database, 1);

    /// <summary>Says that somebody outside acts in the world, until what is returned is disposed of.</summary>
    /// <param name="who">Who it is, for those who wait for them.</param>
    public IDisposable Engage(string who) => Outsiders.Engage(who);

    /// <summary>Who is engaged now.</summary>
    public IReadOnlyList<string> Engaged => Outsiders.Engaged;

    /// <summary>Completes when nobody who is engaged thinks any more, or after a time of the wall clock.</summary>
    /// <returns>Whether nobody did in time.</returns>
    public Task<bool> WhenNobodyThinksAsync(TimeSpan atMost) => Outsiders.WhenNobodyThinksAsync(atMost);

    /// <summary>Lets time pass; everything due by then happens, in order.</summary>
    /// <param name="to">The new time; earlier than now does nothing.</param>
    /// <param name="evenIfSomebodyThinks">Do not wait for who is engaged.</param>
    /// <returns>False when it stopped on the way because somebody who is engaged must be waited for.</returns>
    public bool Advance(Instant to, bool evenIfSomebodyThinks = false)
    {
        lock (Gate)
        {
            var end = to.ToUnixTimeMilliseconds();
            while (true)
            {
                if (Outsiders.Stop && !evenIfSomebodyThinks)
                {
                    return false;
                }

                var flow = network.NextDone();
                var next = Math.Min(Math.Ceiling(flow), Agenda.Next);
                if (next > end)
                {
                    break;
                }

                Volatile.Write(ref now, Math.Max(now, (long)next));
                Agenda.Reach(now);
                network.Advance(now);
                Agenda.Advance(now);
            }

            Volatile.Write(ref now, Math.Max(now, end));
            Agenda.Reach(now);
            network.Advance(now);
            Agenda.Advance(now);
            Copies.Flush();
            return true;
        }
    }

    /// <summary>What happened since it was last asked.</summary>
    public IReadOnlyList<WorldChange> TakeChanges()
    {
        lock (Gate)
        {
            WorldChange[] taken = [.. changes];
            changes.Clear();
            return taken;
        }
    }

    /// <summary>All sets that still have a copy, or had one during history.</summary>
    public IReadOnlyList<BackupSet> Sets
    {
        get
        {
            lock (Gate)
            {
                return [.. databases.Values.SelectMany(d => d.Sets.Values)];
            }
        }
    }

    /// <summary>What must be remembered to go on after a restart.</summary>
    public WorldState Remember()
    {
        lock (Gate)
        {
            return new WorldState
            {
                Now = now,
                Pace = Pace,
                MadeAt = script.Now,
                HistoryDays = historyDays,
                Databases = databases.ToDictionary(d => d.Key.Value, d => d.Value.Remember()),
                FullStores = [.. Faults.FullStores],
                DownLinks = [.. Faults.DownLinks],
                Refused = [.. Faults.Refused],
                Hanging = [.. Faults.Hanging],
                SlowLinks = Faults.SlowLinks.ToDictionary(),
                FlappingLinks = [.. Faults.FlappingLinks],
                DownHosts = [.. Faults.DownHosts],
                NamesSlow = Faults.NamesSlow,
                Clocks = Faults.Clocks.ToDictionary(),
                Replicas = Replicas.Remember(),
                Drills = Drills.Remember(),
                Open =
                [
                    .. (Rules?.Open ?? []).Select(o => new OpenRun(
                        o.Series.Plan.Id.Value, o.Task.Id, o.Task.Kind.ToString(), o.Database.Id.Value, o.Due.ToUnixTimeMilliseconds(), o.Attempts, o.Task.OutsideChain, o.Set?.Value, o.Trigger?.Run, o.Trigger?.Set?.Value, o.AskedBy)),
                ],
            };
        }
    }

    /// <summary>Opens a world that others act in: it keeps itself in its folder, answers nobody before it has, and never turns back behind what it answered.</summary>
    /// <exception cref="InvalidOperationException">There is no world in the folder.</exception>
    /// <param name="folder">The folder.</param>
    /// <param name="scriptOf">The script that the world was made by.</param>
    public static World Open(string folder, Func<WorldState, WorldScript> scriptOf)
    {
        var (journal, kept) = WorldJournal.Open(folder);
        var state = kept.State ?? throw new InvalidOperationException($"{folder} holds no world");
        foreach (var left in Directory.Exists(Path.Combine(folder, BegunWith)) ? Directory.GetFiles(Path.Combine(folder, BegunWith)) : [])
        {
            // Of a database that was taken back, or never remembered.
            if (state.Databases.GetValueOrDefault(Path.GetFileName(left))?.Birth?.Names is null)
            {
                File.Delete(left);
            }
        }

        return new World(folder, scriptOf(state), state, kept.Sets, [], journal, kept) { Pace = state.Pace };
    }

    /// <summary>What a world in a folder last kept of its clock, for those who only look; null when it cannot be read now.</summary>
    public static (Instant Now, double Pace)? LastKept(string folder) => WorldJournal.Peek(folder) is { } s ? (Instant.FromUnixTimeMilliseconds(s.Now), s.Pace) : null;

    /// <summary>The databases that were made in a world while others acted in it, as it last kept them.</summary>
    public static IReadOnlySet<string> Made(string folder) => WorldJournal.Peek(folder)?.Databases.Where(d => d.Value.Birth is not null).Select(d => d.Key).ToHashSet() ?? [];

    /// <summary>Whether a folder holds a world that can be opened.</summary>
    public static bool IsIn(string folder) => WorldJournal.IsIn(folder);

    /// <summary>Keeps a world that has lived its history, to be opened by others.</summary>
    /// <param name="historyDays">How many days of history it has.</param>
    public void KeepForOthers(int historyDays)
    {
        lock (Gate)
        {
            this.historyDays = historyDays;
            using var own = WorldJournal.Open(Folder).Journal;
            foreach (var set in Sets.Where(s => s.Copies.Any(c => c.RemovedAt is null)))
            {
                own.Add(set);
            }

            own.Keep(Remember());
        }
    }

    /// <summary>Keeps what has happened, and then tells those who waited for it.</summary>
    public void KeepAndAnswer()
    {
        lock (Gate)
        {
            // Bytes first: whoever is told of a copy finds it, whenever the process dies. What somebody does while time stands still is written between two advances.
            Copies.Flush();
            journal!.Keep(Remember());
            Outsiders.Release();
        }
    }

    /// <summary>Databases that no task asks for log need not remember theirs.</summary>
    internal void KeepLogs()
    {
        var logged = Series.Of(Fleet).Where(s => s.Task.Kind == TaskKind.Log).Select(s => s.Database.Id).ToHashSet();
        foreach (var d in databases.Values)
        {
            d.KeepLog(logged.Contains(d.Database.Id) && KeepsLog(d.Database));
        }
    }

    /// <summary>Changes the plans; runs under way go on as they began. Plans that need stores which are not in the world are not run.</summary>
    public void SetPlans(IEnumerable<Plan> changed)
    {
        lock (Gate)
        {
            Fleet = Fleet.WithPlans(changed.Where(p => p.Tasks.All(t => t.Stores.All(Fleet.Stores.ContainsKey))));
            KeepLogs();
            Rules?.Load(Fleet);
        }
    }

    /// <summary>Makes a database that begins now; nothing is done when the run has made it.</summary>
    /// <param name="d">The database.</param>
    /// <param name="run">The run that makes it.</param>
    /// <param name="names">Of one that begins with what was restored: its names; null for one that begins empty.</param>
    /// <param name="basis">What it begins with.</param>
    /// <exception cref="DriverException">There is one of that name already.</exception>
    internal void Bear(Database d, Guid run, IReadOnlyList<MappedName>? names = null, PageImage? basis = null)
    {
        if (!HasMade(d.Id, run))
        {
            var birth = new WorldState.BirthState(now, d.Name, d.Engine.Value, d.Host.Value, d.SizeBytes, d.LogBytesPerSecond, d.Service?.Value, d.Objective?.Value, [.. d.Tags], [.. d.RecoveryHosts.Select(h => h.Value)], run, names is null ? null : [.. names]);
            if (basis is not null)
            {
                // Before the world remembers that there is one: what is left of one that it never heard of is written over.
                Directory.CreateDirectory(Path.GetDirectoryName(BasisOf(d.Id))!);
                File.WriteAllBytes(BasisOf(d.Id), SetContent.OfPages(basis, long.MinValue));
            }

            databases[d.Id] = Made(d, new WorldState.DatabaseState { Birth = birth, LogFromTime = now, LogFromPosition = basis?.Position ?? 0 });
            Fleet = Fleet.With([.. Fleet.Databases, d]);
            KeepLogs();
        }
    }

    /// <summary>Whether a run has made a database.</summary>
    /// <exception cref="DriverException">There is one of that name that it has not made.</exception>
    internal bool HasMade(Id<Database> id, Guid run) =>
        databases.TryGetValue(id, out var there) && (there.Birth?.Run == run ? true : throw new DriverException(DriverProblem.Refused, $"there is a database {id} already"));

    /// <summary>Takes back one that a run made; nothing is done when that has made none of that name.</summary>
    internal void Unmake(Id<Database> id, Guid run)
    {
        if (databases.TryGetValue(id, out var d) && d.Birth?.Run == run)
        {
            databases.Remove(id);
            Fleet = Fleet.With(Fleet.Databases.Where(x => x.Id != id), Fleet.ReplicaList.Where(r => r.Database != id), Fleet.GroupList.Where(g => !g.Databases.Contains(id)));
        }
    }

    /// <summary>Whether a database keeps its log: always, or for a run that needs it to.</summary>
    internal bool KeepsLog(Database d) => d.LogMode == LogMode.Kept || new HostSettings(this).Now(d.Host, LogKept.SettingOf(d.Id)) == LogKept.Kept;

    /// <summary>A setting of a host has changed: a database there may keep its log from now on, or no longer.</summary>
    internal void SettingChanged(Id<Host> host)
    {
        lock (Gate)
        {
            foreach (var d in databases.Values.Where(d => d.Database.Host == host && d.Database.LogMode == LogMode.Discarded))
            {
                Live(d);
            }

            KeepLogs();
        }
    }

    /// <summary>A database that the script does not know: small, or as large as what it began with, and as busy as its log says.</summary>
    private SimulatedDatabase Made(Database d, WorldState.DatabaseState state)
    {
        var basis = state.Birth!.Names is null ? null : SetContent.RestorePages(File.ReadAllBytes(BasisOf(d.Id)), null);
        return new(
            d,
            new DatabaseScript(d.Id, basis?.Pages ?? MadePages, Math.Clamp((d.LogBytesPerSecond ?? 0) / 20_000, 2, 60), d.LogBytesPerSecond ?? 20_000, [], []),
            script.Seed,
            Instant.FromUnixTimeMilliseconds(state.Birth.At),
            state,
            KeepsLog(d),
            basis);
    }

    /// <summary>Where it lies what a database began with.</summary>
    private string BasisOf(Id<Database> database) => Path.Combine(Folder, BegunWith, database.Value);

    private const string BegunWith = "begun-with";

    private const int MadePages = 32;

    /// <summary>How many transactions a database committed after an instant, and up to another one.</summary>
    public int CommittedSince(Id<Database> database, Instant after, Instant? upTo = null)
    {
        lock (Gate)
        {
            var d = databases[database];
            Live(d);
            return d.Committed(after.ToUnixTimeMilliseconds(), Math.Min(now, upTo?.ToUnixTimeMilliseconds() ?? now));
        }
    }

    /// <summary>Writes a marker row into a database, at the start of the next minute of the world.</summary>
    /// <returns>When it will be committed.</returns>
    public Instant WriteMarker(Id<Database> database, string name)
    {
        lock (Gate)
        {
            var at = ((now / 60_000) + 1) * 60_000;
            databases[database].Named.Add(new NamedChange(name, at, 0));
            Schedule(at, () => databases[database].LiveUntil(now, t => Marked(databases[database], t)));
            return Instant.FromUnixTimeMilliseconds(at);
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        Outsiders.End();
        journal?.Dispose();
        Copies.Dispose();
    }

    internal static string Key(Id<Database> database, Id<BackupSet> set) => $"{database}/{set}";

    internal SimulatedDatabase this[Id<Database> database] => databases[database];

    internal IEnumerable<SimulatedDatabase> Databases => databases.Values;

    internal FairShare Network => network;

    internal Outsiders Outsiders { get; }

    internal Agenda Agenda { get; }

    internal BackupWork Work { get; }

    internal Copies Copies { get; }

    internal Answers Answers { get; }

    internal ulong Seed => script.Seed;

    internal Instant MadeAt => script.Now;

    internal bool InHistory => inHistory;

    /// <summary>Whether this is the first instant of its history: what is in it then was there before.</summary>
    internal bool IsBorn => inHistory && Now == script.Begins;

    /// <summary>The rules by which it runs its plans by itself; null when others act in it.</summary>
    internal RunRules? Rules => plans?.Rules;

    internal long NowMs => now;

    internal bool Has(Id<Database> database) => databases.ContainsKey(database);

    internal void Changed(WorldChange change) => changes.Add(change);

    /// <summary>Has something happen at an instant, milliseconds; not before now.</summary>
    internal void Schedule(long at, Action what) => Agenda.Schedule(at, what);

    /// <summary>Has something happen after so many milliseconds.</summary>
    internal void After(long milliseconds, Action what) => Schedule(now + milliseconds, what);

    /// <summary>Completes after some seconds of the world, and says when that was.</summary>
    internal Task<long> After(double seconds, CancellationToken cancel) =>
        Outsiders.Await(done => Schedule(now + (long)Math.Round(seconds * 1000), done), cancel);

    internal void Tell(Id<Database>? database, string kind, string text) =>
        changes.Add(new WorldChange.Happened(Now, database, kind, text));

    private void ScheduleHistory()
    {
        foreach (var trouble in script.Troubles)
        {
            Schedule(trouble.At.ToUnixTimeMilliseconds(), () => trouble.Happens(this));
        }

        foreach (var drill in script.Drills)
        {
            if (drill.StoppedBeforeSeconds > 0)
            {
                Schedule((drill.At - Duration.FromSeconds(drill.StoppedBeforeSeconds)).ToUnixTimeMilliseconds(), () => Replicas.Hold(drill.Replica));
            }

            Schedule(drill.At.ToUnixTimeMilliseconds(), () => _ = PastDrill.HoldAsync(this, drill));
        }

        foreach (var d in databases.Values)
        {
            foreach (var days in d.Script.RehearsedDaysAgo)
            {
                Schedule((script.Now - Duration.FromDays(days)).ToUnixTimeMilliseconds(), () => _ = Rehearsal.RunAsync(this, d));
            }
        }
    }

    private void Resume(WorldState state, IEnumerable<BackupSet> known)
    {
        Replicas.Resume(state.Replicas);
        Replicas.Load(Fleet);
        foreach (var d in databases.Values)
        {
            d.LiveUntil(now);
        }

        foreach (var set in known)
        {
            var d = databases[set.Database];
            if (set.Copies.All(c => c.RemovedAt is not null))
            {
                continue;
            }

            d.Sets[set.Id.Value] = set;
            Copies.Count(set, 1);
        }

        Faults.Resume(state.FlappingLinks);
        Replicas.Voting.Resume();
        Drills.Resume(state.Drills);
        foreach (var run in Rules is null ? [] : state.Open)
        {
            Rules!.TakeUp(run);
        }
    }

    /// <summary>A fleet with what the world itself knows better: where its databases run, their branches, and which of their replicas are left.</summary>
    private static FleetModel WithOwn(FleetModel fleet, WorldState state) => fleet.With(
        fleet.Databases.Concat(state.Databases.Where(d => d.Value.Birth is not null).Select(d => Born(d.Key, d.Value.Birth!))).Select(d => state.Databases.TryGetValue(d.Id.Value, out var own) && own.Host is { } host
            ? d with { Host = new(host), Branches = [.. own.Branches.Select(b => new Branch(b.Id, b.Parent, b.ForkPosition, Instant.FromUnixTimeMilliseconds(b.ForkAt), Instant.FromUnixTimeMilliseconds(b.StartsAt)))], Version = own.Version ?? d.Version }
            : d),
        fleet.ReplicaList.Where(r => state.Replicas.ContainsKey(r.Id.Value)).Select(r => r.From is { } from && !state.Replicas.ContainsKey(from.Value) ? r with { From = null } : r));

    private static Database Born(string id, WorldState.BirthState b) => new()
    {
        Id = new(id),
        Name = b.Name,
        Engine = new(b.Engine),
        Host = new(b.Host),
        RecoveryHosts = [.. b.RecoveryHosts.Select(h => new Id<Host>(h))],
        Objective = b.Objective is { } o ? new(o) : null,
        Service = b.Service is { } s ? new(s) : null,
        SizeBytes = b.SizeBytes,
        LogBytesPerSecond = b.LogBytesPerSecond,
        Tags = b.Tags,
    };

    /// <summary>A database lives until now.</summary>
    internal void Live(SimulatedDatabase d) => d.LiveUntil(now, t => Marked(d, t));

    internal void Marked(SimulatedDatabase d, Transaction t)
    {
        if (!t.Marker!.StartsWith(MarkSpan.Prefix, StringComparison.Ordinal))
        {
            changes.Add(new WorldChange.MarkerWritten(Instant.FromUnixTimeMilliseconds(t.Time), d.Database.Id, t.Marker));
        }
    }

    internal void Change(BackupSet set)
    {
        var d = databases[set.Database];
        var sets = d.Sets;
        Copies.Count(sets.GetValueOrDefault(set.Id.Value), -1);
        Copies.Count(set, 1);
        if (set.Copies.All(c => c.RemovedAt is not null) && !inHistory)
        {
            sets.Remove(set.Id.Value);
        }
        else
        {
            sets[set.Id.Value] = set;
        }

        journal?.Add(set);
    }
}
