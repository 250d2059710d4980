using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using NodaTime;

namespace Imbrek.StandIn.Drills;

/// <summary>Who looks on at drills in the world: each second a write is tried on both sides, and by a client through the usual address, which it asks for again when what it knows has run out.</summary>
internal sealed class WorldDrills(World world)
{
    private const long SecondMs = 1000, MinuteMs = 60_000, SlowNames = 10;

    private readonly Dictionary<Guid, Watching> all = [];

    /// <summary>Goes on after a restart.</summary>
    public void Resume(IEnumerable<KeptDrill> kept)
    {
        foreach (var k in kept)
        {
            Start(new Watching(k));
        }
    }

    public List<KeptDrill> Remember() => [.. all.Values.Select(w => w.Remember())];

    /// <summary>Begins to look on, and to write markers; nothing is done when the run has begun already.</summary>
    /// <returns>When the first marker is committed, milliseconds.</returns>
    public long Begin(Guid run, Id<Database> database, Id<Host> there)
    {
        var d = world[database];
        if (!all.ContainsKey(run))
        {
            // What was seen in the last one is kept until the next: who asked for it may not have kept it yet.
            foreach (var over in all.Values.Where(w => w.Database == database.Value && w.EndsAt < world.NowMs).Select(w => w.Run).ToArray())
            {
                all.Remove(over);
            }

            // The minute that passes is drawn already.
            var first = ((world.NowMs / MinuteMs) + 1) * MinuteMs;
            world.Live(d);
            d.Marks.Add(new MarkSpan(NameOf(run), first, first + MarkSpan.Longest));
            Start(new Watching(new KeptDrill(run, database.Value, d.Database.Host.Value, there.Value, d.Database.Host.Value, d.Database.Host.Value, first + MarkSpan.Longest, [])));
        }

        return d.Marks.First(m => m.Name == NameOf(run)).From;
    }

    public bool TakesWrites(Id<Database> database, Id<Host> host) => Takes(world[database], host.Value);

    /// <summary>The voters have moved the usual address of a database.</summary>
    public void Moved(Id<Database> database, Id<Host> host)
    {
        foreach (var w in all.Values.Where(w => w.Database == database.Value))
        {
            w.Address = host.Value;
        }
    }

    public void SendClients(Guid run, Id<Host> host) => Of(run).Address = host.Value;

    public IReadOnlyList<DrillSpan> Seen(Guid run) => !all.TryGetValue(run, out var w) ? [] : [.. w.Trail.Select(t => new DrillSpan(At(t.From), At(t.To), t.Here, t.There, t.Clients))];

    public MarkersPresent Markers(Guid run, Id<Database> database, long? upTo)
    {
        var d = world[database];
        world.Live(d);
        var name = NameOf(run) + " ";
        Marker[] found = [.. d.Image.Markers.Where(m => m.Name.StartsWith(name, StringComparison.Ordinal) && m.Time <= (upTo ?? long.MaxValue))];
        return new(found.Length, found.Length == 0 ? null : At(found.Max(m => m.Time)));
    }

    public void End(Guid run, Id<Database> database)
    {
        if (all.TryGetValue(run, out var w))
        {
            w.EndsAt = Math.Min(w.EndsAt, world.NowMs - 1);
        }

        if (world.Has(database) && world[database].Marks.FindIndex(m => m.Name == NameOf(run)) is >= 0 and var i)
        {
            var d = world[database];
            world.Live(d);
            d.Marks[i] = d.Marks[i] with { To = Math.Max(d.Marks[i].From, Math.Min(d.Marks[i].To, ((world.NowMs / MinuteMs) + 1) * MinuteMs)) };
        }
    }

    private static string NameOf(Guid run) => $"{MarkSpan.Prefix}{run.ToString()[^12..]}";

    private static Instant At(long ms) => Instant.FromUnixTimeMilliseconds(ms);

    private Watching Of(Guid run) => all.GetValueOrDefault(run) ?? throw new DriverException(DriverProblem.Refused, "nobody looks on at this drill");

    private void Start(Watching w)
    {
        all[w.Run] = w;
        world.Schedule(world.NowMs, Tick);

        void Tick()
        {
            if (all.GetValueOrDefault(w.Run) != w || world.NowMs > w.EndsAt || !world.Has(new(w.Database)))
            {
                return;
            }

            Look(w);
            world.Schedule(((world.NowMs / SecondMs) + 1) * SecondMs, Tick);
        }
    }

    private void Look(Watching w)
    {
        var (now, d) = (world.NowMs, world[new Id<Database>(w.Database)]);

        // A client asks for the address each time what it knows has run out.
        var lifetime = (long)(Math.Max(1, d.Database.RedirectSeconds) * 1000) * (world.Faults.NamesSlow ? SlowNames : 1);
        var phase = (long)(Draw.Unit(Draw.Of(world.Seed, w.Run.ToString()), 0) * lifetime);
        if ((now + phase) / lifetime != (now + phase - SecondMs) / lifetime || w.ClientKnows == w.Address)
        {
            w.ClientKnows = w.Address;
        }

        w.Add(now, Takes(d, w.Here), Takes(d, w.There), Takes(d, w.ClientKnows));
    }

    /// <summary>Whether a database takes a write on a host.</summary>
    private bool Takes(SimulatedDatabase d, string host)
    {
        if (world.Faults.IsDown(new Id<Host>(host)))
        {
            return false;
        }

        if (d.Database.Host.Value == host)
        {
            return !d.IsStopped;
        }

        // A former primary that was not kept out goes on as if nothing had happened.
        return d.Former is { KeptOut: false } f && f.Host == host
            ? true
            : d.Replicas.Any(r => r.Replica.Place.Hosts.Any(h => h.Value == host) && r.Unusable is null && r.TryWrite() is null);
    }

    /// <summary>One that is looked on at.</summary>
    private sealed class Watching(KeptDrill kept)
    {
        public Guid Run => kept.Run;

        public string Database => kept.Database;

        public string Here => kept.Here;

        public string There => kept.There;

        public long EndsAt { get; set; } = kept.EndsAt;

        public string Address { get; set; } = kept.Address;

        public string ClientKnows { get; set; } = kept.ClientKnows;

        public List<KeptDrill.Span> Trail { get; } = [.. kept.Trail];

        public void Add(long at, bool here, bool there, bool clients)
        {
            if (Trail.Count > 0 && Trail[^1] is var last && (last.Here, last.There, last.Clients) == (here, there, clients))
            {
                Trail[^1] = last with { To = at };
            }
            else
            {
                Trail.Add(new(at, at, here, there, clients));
            }
        }

        public KeptDrill Remember() => kept with { EndsAt = EndsAt, Address = Address, ClientKnows = ClientKnows, Trail = [.. Trail] };
    }
}
