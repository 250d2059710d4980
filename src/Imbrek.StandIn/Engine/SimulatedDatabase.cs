using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.StandIn.Engine;

/// <summary>A database that lives: its image now, its log not yet backed up, and where its backups stand.</summary>
internal sealed class SimulatedDatabase
{
    private readonly ulong seed;
    private readonly long birth;
    private readonly TransactionStream stream;
    private readonly PageImage? basis;
    private readonly HashSet<string> stops = [];
    private bool keepsLog;

    /// <param name="database">It in the fleet.</param>
    /// <param name="script">What it is like.</param>
    /// <param name="worldSeed">The seed of its world.</param>
    /// <param name="birth">When it came into being.</param>
    /// <param name="state">What was remembered of it; null for nothing.</param>
    /// <param name="keepsLog">Whether its log is kept.</param>
    /// <param name="basis">What it held then; null for nothing.</param>
    public SimulatedDatabase(Database database, DatabaseScript script, ulong worldSeed, Instant birth, WorldState.DatabaseState? state, bool keepsLog, PageImage? basis = null)
    {
        this.basis = basis;
        Birth = state?.Birth;
        Versions = new(state?.Versions ?? []);
        Database = database;
        Script = script;
        seed = Draw.Of(worldSeed, database.Id.Value);
        this.birth = birth.ToUnixTimeMilliseconds();
        Named = [.. script.Changes];
        Image = Beginning();
        this.keepsLog = state?.KeepsLog ?? keepsLog;
        stream = Stream();
        LogFrom = (basis?.Position ?? 0, this.birth);
        if (state is not null)
        {
            Named.AddRange(state.Named);
            LogFrom = (state.LogFromPosition, state.LogFromTime);
            Full = (state.FullId, state.FullPosition);
            LastSet = (state.LastSetId, state.LastSetPosition);
            Silences.AddRange(state.Silences);
            Marks.AddRange(state.Marks);
            Former = state.Former;
            NoStatistics = state.NoStatistics;
            stops.UnionWith(state.Stops);
        }
    }

    public Database Database { get; private set; }

    /// <summary>How it came into being; null for one that the script knows.</summary>
    public WorldState.BirthState? Birth { get; }

    public DatabaseScript Script { get; }

    /// <summary>What rehearsals of the world's own have proved of it.</summary>
    public Proofs Proofs { get; set; } = Proofs.None;

    public PageImage Image { get; private set; }

    public List<NamedChange> Named { get; }

    /// <summary>Times in which a marker is written each second.</summary>
    public List<MarkSpan> Marks { get; } = [];

    /// <summary>Where it ran before a replica took over, while that host is not one of a replica; null when none did.</summary>
    public FormerSide? Former { get; set; }

    /// <summary>The versions that its branches were begun with, where they began with another than their parent; of the first branch, once there is another.</summary>
    public Dictionary<int, string> Versions { get; }

    /// <summary>Whether the engine knows nothing of what its tables hold, so that it answers slowly.</summary>
    public bool NoStatistics { get; set; }

    public List<Transaction> Unlogged { get; } = [];

    /// <summary>Spans in which nothing was committed, though the seed draws it; the last one may be open.</summary>
    public List<Silence> Silences { get; } = [];

    /// <summary>The branch it lives on.</summary>
    public int Branch => Database.LiveBranch;

    /// <summary>Its replicas; they are told each record as it is committed.</summary>
    public List<Replication.SimulatedReplica> Replicas { get; } = [];

    /// <summary>Where the next log backup starts: position and instant.</summary>
    public (long Position, long Time) LogFrom { get; set; }

    public (string? Id, long Position) Full { get; set; }

    public (string? Id, long Position) LastSet { get; set; }

    /// <summary>Its sets that still have a copy, by identifier.</summary>
    public Dictionary<string, BackupSet> Sets { get; } = [];

    /// <summary>Says whether its log is kept and a log backup will ever ask for it; what nobody asks for need not be remembered.</summary>
    public void KeepLog(bool asked)
    {
        if (asked && !keepsLog)
        {
            LogFrom = (Image.Position, Math.Max(LogFrom.Time, Image.Time));
        }
        else if (!asked)
        {
            Unlogged.Clear();
        }

        keepsLog = asked;
    }

    /// <summary>Lives on until an instant; calls back for each named change that is committed on the way.</summary>
    public void LiveUntil(long time, Action<Transaction>? named = null)
    {
        foreach (var t in stream.Until(time))
        {
            if (IsSilent(t.Time, Branch))
            {
                continue;
            }

            Image.Apply(t);
            foreach (var replica in Replicas)
            {
                replica.Hear(t);
            }

            if (keepsLog && t.Position > LogFrom.Position)
            {
                Unlogged.Add(t);
            }

            if (t.Marker is not null)
            {
                named?.Invoke(t);
            }
        }
    }

    /// <summary>Lives on from what a replica of it held, on a branch of its own: its log and its bases begin anew.</summary>
    /// <param name="image">What it held.</param>
    /// <param name="host">The host it lives on from now on.</param>
    /// <param name="branch">Its branch. What was committed after its fork until now is not on it.</param>
    public void TakeOver(PageImage image, Id<Host> host, Branch branch, bool lostNothing)
    {
        Former = new FormerSide(Database.Host.Value, stops.Contains(StandInReplicateDriver.KeptOut) || stops.Contains(Replication.Voting.KeptOut), lostNothing);
        Database = Database with { Host = host };
        GoOnAs(image, branch);
    }

    /// <summary>Lives on from what was restored, on a branch of its own: its log and its bases begin anew.</summary>
    /// <param name="image">What was restored.</param>
    /// <param name="branch">Its branch. What was committed after its fork until now is not on it.</param>
    public void GoOnAs(PageImage image, Branch branch)
    {
        var now = branch.StartsAt.ToUnixTimeMilliseconds();
        foreach (var why in stops.ToArray())
        {
            GoOn(now, why);
        }

        Database = Database with { Branches = [.. Database.Branches, branch], Version = VersionOf(branch.Parent) };
        Silences.Add(new Silence(branch.ForkAt.ToUnixTimeMilliseconds(), now, branch.Id));
        Image = image;
        NoStatistics = false;
        Unlogged.Clear();
        LogFrom = (image.Position, image.Time);
        (Full, LastSet) = ((null, 0), (null, 0));
    }

    /// <summary>Commits a statement at the next instant at which nothing else is, also while everybody else is kept out.</summary>
    /// <param name="now">The instant, milliseconds; it has lived until then.</param>
    /// <param name="name">The marker that it leaves.</param>
    /// <param name="statement">The statement; null for the marker alone.</param>
    /// <returns>When it is committed, milliseconds.</returns>
    public long Commit(long now, string name, string? statement)
    {
        var at = stream.FreeAfter(Math.Max(now, Named.Count == 0 ? now : Named.Max(n => n.Time)));
        var change = new NamedChange(name, at, 0, statement);
        Named.Add(change);
        stream.TakeIn(change);
        if (IsStopped)
        {
            Silences[^1] = Silences[^1] with { To = at - 1 };
            Silences.Add(new Silence(at, long.MaxValue, Branch));
        }

        return at;
    }

    /// <summary>Moves to another version: a branch begins, to which no log from before leads, because what the move itself wrote is in none.</summary>
    /// <param name="now">The instant, milliseconds; it has lived until then.</param>
    /// <param name="version">The version.</param>
    /// <returns>The branch.</returns>
    public Branch Upgrade(long now, string version)
    {
        var at = Instant.FromUnixTimeMilliseconds(now);
        var branch = new Branch(Database.Branches.Select(b => b.Id).Append(1).Max() + 1, Branch, Image.Position, at, at);
        if (Database.Version is { } was)
        {
            Versions.TryAdd(1, was);
        }

        Versions[branch.Id] = version;
        Database = Database with { Branches = [.. Database.Branches, branch], Version = version };
        BeginLogAnew(now, $"move to version {version}");
        NoStatistics = true;
        return branch;
    }

    /// <summary>Writes something that is in no log: none from before leads on, and the next base is the first.</summary>
    /// <param name="now">The instant, milliseconds; it has lived until then.</param>
    /// <param name="name">The marker of what is written.</param>
    public void BeginLogAnew(long now, string name)
    {
        var written = Commit(now, name, null);
        Unlogged.Clear();
        LogFrom = (StateAt(written).Position, written);
        (Full, LastSet) = ((null, 0), (null, 0));
    }

    /// <summary>Nothing is committed from now on, for a reason; several may hold at once.</summary>
    /// <param name="now">The instant, milliseconds; what is committed at it still is.</param>
    /// <param name="why">The reason.</param>
    public void Stop(long now, string why)
    {
        if (stops.Add(why) && stops.Count == 1)
        {
            Silences.Add(new Silence(now, long.MaxValue, Branch));
        }
    }

    /// <summary>A reason holds no longer; commits go on after an instant, milliseconds, once none does.</summary>
    public void GoOn(long now, string why)
    {
        if (stops.Remove(why) && stops.Count == 0)
        {
            Silences[^1] = Silences[^1] with { To = now };
        }
    }

    /// <summary>Whether nothing is committed now.</summary>
    public bool IsStopped => stops.Count > 0;

    /// <summary>Since when nothing has been committed, where a reason holds; null when it does not.</summary>
    public long? StoppedAt(string why) => stops.Contains(why) ? Silences[^1].From : null;

    /// <summary>Whether nothing is committed for a reason.</summary>
    public bool IsStoppedBy(string why) => stops.Contains(why);

    /// <summary>The state at an instant, computed from the seed alone, without any backup or replica.</summary>
    /// <param name="time">The instant, milliseconds.</param>
    /// <param name="branch">On which branch; null for the live one.</param>
    public PageImage StateAt(long time, int? branch = null) => State(branch ?? Branch, time, long.MaxValue);

    /// <summary>The same at a position.</summary>
    public PageImage StateAtPosition(long position, int branch) => State(branch, Image.Time, position);

    /// <summary>Tells all that it has committed so far again.</summary>
    public void Retell(Action<Transaction> told)
    {
        foreach (var t in Stream().Until(Image.Time).Where(t => !IsSilent(t.Time, Branch)))
        {
            told(t);
        }
    }

    /// <summary>How many transactions it committed after an instant up to another one, milliseconds.</summary>
    public int Committed(long after, long upTo) =>
        Stream().Until(upTo).Count(t => t.Time > after && !IsSilent(t.Time, Branch));

    private PageImage State(int branch, long time, long position)
    {
        var image = Beginning();
        foreach (var t in Stream().Until(time))
        {
            if (t.Position > position)
            {
                break;
            }

            if (!IsSilent(t.Time, branch))
            {
                image.Apply(t);
            }
        }

        return image;
    }

    public WorldState.DatabaseState Remember() => new()
    {
        LogFromPosition = LogFrom.Position,
        LogFromTime = LogFrom.Time,
        KeepsLog = keepsLog,
        FullId = Full.Id,
        FullPosition = Full.Position,
        LastSetId = LastSet.Id,
        LastSetPosition = LastSet.Position,
        Named = [.. Named.Skip(Script.Changes.Count)],
        Silences = [.. Silences],
        Stops = [.. stops],
        Marks = [.. Marks],
        Former = Former,
        Versions = new(Versions),
        NoStatistics = NoStatistics,
        Version = Versions.Count == 0 ? null : Database.Version,
        Host = Database.Host.Value,
        Birth = Birth,
        Branches = [.. Database.Branches.Select(b => new WorldState.BranchState(b.Id, b.Parent, b.ForkPosition, b.ForkAt.ToUnixTimeMilliseconds(), b.StartsAt.ToUnixTimeMilliseconds()))],
    };

    /// <summary>All that it commits, from its beginning.</summary>
    private TransactionStream Stream() => new(seed, Script.Pages, Script.TransactionsPerMinute, birth, Named, Marks, basis?.Position);

    /// <summary>What it held at its beginning.</summary>
    public PageImage Beginning() => basis?.Copied() ?? new PageImage(Script.Pages);

    /// <summary>The version of a branch.</summary>
    private string? VersionOf(int branch) =>
        Versions.TryGetValue(branch, out var own) ? own : Database.Branches.FirstOrDefault(b => b.Id == branch) is { } b ? VersionOf(b.Parent) : Database.Version;

    private bool IsSilent(long time, int branch)
    {
        foreach (var s in Silences)
        {
            if (s.From < time && time <= s.To && IsOnLine(s.Branch, branch))
            {
                return true;
            }
        }

        return false;
    }

    /// <summary>Whether a branch is another one, or one that the other came from.</summary>
    private bool IsOnLine(int branch, int of)
    {
        while (of != branch)
        {
            if (Database.Branches.FirstOrDefault(b => b.Id == of) is not { } fork)
            {
                return false;
            }

            of = fork.Parent;
        }

        return true;
    }
}
