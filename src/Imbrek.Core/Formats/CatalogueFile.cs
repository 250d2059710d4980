using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>Reads and writes the catalogue file: JSON Lines, one set or one stretch of lag a line. JSON Schema: docs/formats/catalogue.schema.json.</summary>
public static class CatalogueFile
{
    internal static readonly IReadOnlyDictionary<string, SetKind> Kinds =
        Enum.GetValues<SetKind>().ToDictionary(k => k.ToString().ToLowerInvariant());

    internal static readonly IReadOnlyDictionary<string, CopyState> States =
        Enum.GetValues<CopyState>().ToDictionary(k => k.ToString().ToLowerInvariant());

    private static readonly JsonSerializerOptions Compact = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>How much of a file is read as one part.</summary>
    private const int PartBytes = 1 << 20;

    /// <summary>Reads sets and stretches of lag; lists every fault with line and member, and then gives nothing.</summary>
    /// <param name="utf8">The text of the file.</param>
    /// <param name="file">What to call the file in faults.</param>
    /// <param name="fleet">The fleet whose databases, stores, hosts and branches the sets name.</param>
    /// <param name="skipBad">Leave bad lines aside and give the others; the faults are still listed.</param>
    public static ReadResult<BackupCatalogue> Read(ReadOnlyMemory<byte> utf8, string file, FleetModel fleet, bool skipBad = false) => ReadWith(new SetLines(fleet), utf8, file, fleet, skipBad);

    /// <summary>The same.</summary>
    /// <param name="inOnePass">Who reads the lines of which there is nothing to say; null for nobody.</param>
    /// <param name="utf8">The text of the file.</param>
    /// <param name="file">What to call the file in faults.</param>
    /// <param name="fleet">The fleet.</param>
    /// <param name="skipBad">Whether bad lines are left aside.</param>
    internal static ReadResult<BackupCatalogue> ReadWith(SetLines? inOnePass, ReadOnlyMemory<byte> utf8, string file, FleetModel fleet, bool skipBad)
    {
        if (utf8.Span.StartsWith(Encoding.UTF8.Preamble))
        {
            utf8 = utf8[3..];
        }

        // Lines have nothing to do with each other until all are read: parts of them are read side by side.
        var parts = Parts(utf8);
        Parallel.For(0, parts.Count, i => parts[i].Read(fleet, inOnePass));
        var report = parts[0].Report;
        foreach (var next in parts.Skip(1))
        {
            report.Add(next.Report);
        }

        // Nor have databases: whether there is anything to say of one is found side by side, what there is to say one after another.
        var databases = parts.SelectMany(p => p.Sets).GroupBy(s => s.Set.Database).Select(g => g.ToList()).ToList();
        var lags = parts.SelectMany(p => p.Lags).ToList();
        var bad = databases.AsParallel().All(d => Check(d, new FaultReport(file)).Count == 0) ? [] : databases.SelectMany(d => Check(d, report)).ToHashSet();
        bad.UnionWith(LagRules.Check(lags, fleet, report));
        return new(
            report.FaultCount == 0 || skipBad
                ? new BackupCatalogue(databases.AsParallel().Select(Good).Where(c => c.Count > 0)).WithLag(fleet, lags.Where(l => !bad.Contains(l.Line)).Select(l => l.Lag))
                : null,
            report.Faults,
            report.Warnings);

        HashSet<int> Check(List<(BackupSet Set, int Line)> sets, FaultReport to) => SetRules.Check(sets, fleet.DatabaseById[sets[0].Set.Database], to);

        DatabaseCatalogue Good(List<(BackupSet Set, int Line)> sets) => new(sets[0].Set.Database, sets.Where(s => !bad.Contains(s.Line)).Select(s => s.Set));

        List<Part> Parts(ReadOnlyMemory<byte> rest)
        {
            var (parts, line) = (new List<Part>(), 1);
            do
            {
                var end = rest.Length <= PartBytes ? -1 : rest.Span[PartBytes..].IndexOf((byte)'\n');
                var own = end < 0 ? rest : rest[..(PartBytes + end + 1)];
                parts.Add(new Part(own, line, new FaultReport(file)));
                line += own.Span.Count((byte)'\n');
                rest = rest[own.Length..];
            }
            while (!rest.IsEmpty);
            return parts;
        }
    }

    /// <summary>Some lines of a file, and what was found in them.</summary>
    private sealed class Part(ReadOnlyMemory<byte> text, int firstLine, FaultReport report)
    {
        public List<(BackupSet Set, int Line)> Sets { get; } = [];

        public List<(LagStretch Lag, int Line)> Lags { get; } = [];

        public FaultReport Report => report;

        public void Read(FleetModel fleet, SetLines? inOnePass)
        {
            var (rest, document) = (text, new LocatedJson.Document(report));
            for (var line = firstLine; !rest.IsEmpty; line++)
            {
                var end = rest.Span.IndexOf((byte)'\n');
                var own = end < 0 ? rest : rest[..end];
                rest = end < 0 ? default : rest[(end + 1)..];
                if (inOnePass?.Read(own.Span) is { } simple)
                {
                    Sets.Add((simple, line));
                    continue;
                }

                if (own.Span.Trim(" \t\r"u8).IsEmpty || LocatedJson.Parse(own, document, line) is not { } json)
                {
                    continue;
                }

                if (!json.IsObject)
                {
                    json.Fault("expected an object");
                }
                else
                {
                    switch (json.Text("type"))
                    {
                        case "set" when ReadSet(json, fleet) is { } set:
                            Sets.Add((set, line));
                            break;
                        case "lag" when ReadLag(json, fleet) is { } lag:
                            Lags.Add((lag, line));
                            break;
                        case { } other and not ("set" or "lag"):
                            json.FaultAt("type", $"is '{InputBounds.Quote(other)}'; expected set or lag");
                            break;
                    }
                }
            }
        }
    }

    /// <summary>Writes one set as a line, without the line's end.</summary>
    public static string WriteLine(BackupSet s) => JsonSerializer.Serialize(
        new
        {
            type = "set",
            id = s.Id.Value,
            database = s.Database.Value,
            kind = s.Kind.ToString().ToLowerInvariant(),
            branch = s.Branch,
            parent = s.Parent?.Value,
            fromPosition = s.FromPosition,
            toPosition = s.ToPosition,
            coversFrom = Instants.Write(s.CoversFrom),
            coversTo = Instants.Write(s.CoversTo),
            finishedAt = Instants.Write(s.FinishedAt),
            dataBytes = s.DataBytes,
            outsideChain = s.OutsideChain,
            rollForward = s.Kind != SetKind.Export && s.RollForward,
            usableOn = s.UsableOn.Count == 0 ? null : s.UsableOn.Select(h => h.Value),
            key = s.Key,
            copies = s.Copies.Select(c => new
            {
                store = c.Store.Value,
                availableAt = Instants.Write(c.AvailableAt),
                removedAt = Instants.Write(c.RemovedAt),
                lockedUntil = Instants.Write(c.LockedUntil),
                storedBytes = c.StoredBytes,
                state = c.State.ToString().ToLowerInvariant(),
            }),
        },
        Compact);

    /// <summary>Writes one stretch of lag as a line, without the line's end.</summary>
    public static string WriteLine(LagStretch s) => JsonSerializer.Serialize(
        new
        {
            type = "lag",
            replica = s.Replica.Value,
            branch = s.Branch,
            from = Instants.Write(s.From),
            to = Instants.Write(s.To),
            receivedLagSeconds = s.ReceivedLag.TotalSeconds,
            appliedLagSeconds = s.AppliedLag.TotalSeconds,
            appliedLeastLagSeconds = s.AppliedLeastLag.TotalSeconds,
            pendingBytes = s.PendingBytes,
            receivedPosition = s.ReceivedPosition,
        },
        Compact);

    private static LagStretch? ReadLag(LocatedJson j, FleetModel fleet)
    {
        var before = j.FaultCount;
        var name = j.Text("replica");
        Replica? replica = null;
        if (name is not null && !fleet.Replicas.TryGetValue(new(name), out replica))
        {
            j.FaultAt("replica", $"the fleet has no replica '{InputBounds.Quote(name)}'");
        }

        var branch = j.Integer("branch", false, 1, int.MaxValue) ?? 1;
        var from = j.Time("from");
        var to = j.Time("to");
        var received = j.Seconds("receivedLagSeconds", true);
        var applied = j.Seconds("appliedLagSeconds", true);
        var least = j.Seconds("appliedLeastLagSeconds") ?? applied;
        var pending = j.Bytes("pendingBytes");
        var position = j.Integer("receivedPosition", false);
        j.WarnOfUnknown();
        return j.FaultCount != before
            ? null
            : new LagStretch(replica!.Id, (int)branch, from!.Value, to!.Value, Milliseconds(received), Milliseconds(applied), Milliseconds(least), pending!.Value, position);

        static Duration Milliseconds(double? seconds) => Duration.FromMilliseconds(Math.Round(seconds!.Value * 1000));
    }

    private static BackupSet? ReadSet(LocatedJson j, FleetModel fleet)
    {
        var before = j.FaultCount;
        var id = j.Identifier("id", true, InputBounds.SetName);
        var database = j.Text("database");
        Database? owner = null;
        if (database is not null && !fleet.DatabaseById.TryGetValue(new(database), out owner))
        {
            j.FaultAt("database", $"the fleet has no database '{InputBounds.Quote(database)}'");
        }

        var kind = j.Choice("kind", Kinds);
        var log = kind == SetKind.Log;
        var branch = j.Integer("branch", false, 1, int.MaxValue) ?? 1;
        var parent = j.Identifier("parent", false, InputBounds.SetName);
        var fromPosition = j.Integer("fromPosition", log);
        var toPosition = j.Integer("toPosition");
        var coversFrom = j.Time("coversFrom", log);
        var coversTo = j.Time("coversTo");
        var finishedAt = j.Time("finishedAt", false) ?? coversTo;
        var dataBytes = j.Bytes("dataBytes");
        var outside = j.Flag("outsideChain") ?? false;
        var roll = j.Flag("rollForward") ?? kind != SetKind.Export;
        var usableOn = j.Texts("usableOn");
        foreach (var host in usableOn.Where(h => !fleet.Hosts.ContainsKey(new(h))))
        {
            j.FaultAt("usableOn", $"the fleet has no host '{InputBounds.Quote(host)}'");
        }

        var key = j.Text("key", false);
        var items = j.Objects("copies", true);
        var copies = items.Select(c => ReadCopy(c, fleet, coversTo)).ToArray();
        var stores = new HashSet<string>();
        for (var i = 0; i < copies.Length; i++)
        {
            if (copies[i] is { RemovedAt: null } there && !stores.Add(there.Store.Value))
            {
                items[i].FaultAt("store", $"'{there.Store}' holds a copy of this set already");
            }
        }

        j.WarnOfUnknown();
        if (j.FaultCount != before)
        {
            return null;
        }

        return new BackupSet
        {
            Id = new(id!),
            Database = owner!.Id,
            Kind = kind!.Value,
            Branch = (int)branch,
            Parent = parent is null ? null : new(parent),
            FromPosition = fromPosition,
            ToPosition = toPosition!.Value,
            CoversFrom = coversFrom,
            CoversTo = coversTo!.Value,
            FinishedAt = finishedAt!.Value,
            DataBytes = dataBytes!.Value,
            OutsideChain = outside,
            RollForward = roll,
            UsableOn = [.. usableOn.Select(h => new Id<Host>(h))],
            Key = key,
            Copies = copies!,
        };
    }

    private static BackupCopy? ReadCopy(LocatedJson j, FleetModel fleet, Instant? coversTo)
    {
        var before = j.FaultCount;
        var store = j.Text("store");
        Store? holder = null;
        if (store is not null && !fleet.Stores.TryGetValue(new(store), out holder))
        {
            j.FaultAt("store", $"the fleet has no store '{InputBounds.Quote(store)}'");
        }

        var available = j.Time("availableAt");
        if (available < coversTo)
        {
            j.FaultAt("availableAt", "is before coversTo");
        }

        var removed = j.Time("removedAt", false);
        var locked = j.Time("lockedUntil", false);
        var stored = j.Bytes("storedBytes");
        var state = j.Choice("state", States, false) ?? CopyState.Unverified;
        j.WarnOfUnknown();
        return j.FaultCount != before ? null : new BackupCopy(holder!.Id, available!.Value, removed, locked, stored!.Value, state);
    }
}
