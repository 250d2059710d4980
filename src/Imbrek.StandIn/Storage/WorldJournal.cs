using System.Text.Json;
using System.Text.Json.Serialization;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Formats;
using NodaTime;

namespace Imbrek.StandIn.Storage;

/// <summary>
/// What a world keeps of itself: its state in one small file that is replaced whole, and its sets and answers in a file that only grows. The state
/// says how far that file counts: what a crash left beyond did not happen. Nobody is answered before both are written.
/// </summary>
internal sealed class WorldJournal : IDisposable
{
    private const string StateFile = "world.json";
    private const byte Set = 1;
    private const byte Taken = 2;
    private const byte Told = 3;

    private readonly string folder;
    private readonly MemoryStream pending = new();
    private readonly BinaryWriter writer;
    private FileStream file;
    private string name;

    private WorldJournal(string folder, string name)
    {
        (this.folder, this.name) = (folder, name);
        writer = new BinaryWriter(pending);
        file = new FileStream(Path.Combine(folder, name), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.Read, 1);
    }

    /// <summary>What was kept.</summary>
    /// <param name="State">The state; null when nothing was kept yet.</param>
    /// <param name="Sets">Sets that have a copy.</param>
    /// <param name="Taken">Which set a run took, as "database/set".</param>
    /// <param name="Told">What a run was told otherwise.</param>
    public sealed record Kept(WorldState? State, IReadOnlyCollection<BackupSet> Sets, Dictionary<Guid, string> Taken, Dictionary<Guid, string> Told);

    internal sealed record Head(string Journal, long Length, WorldState State);

    /// <summary>Whether a folder holds a world.</summary>
    public static bool IsIn(string folder) => File.Exists(Path.Combine(folder, StateFile));

    /// <summary>The state that was last kept, for those who only look; null when it cannot be read now.</summary>
    public static WorldState? Peek(string folder)
    {
        try
        {
            return IsIn(folder) ? JsonSerializer.Deserialize(File.ReadAllBytes(Path.Combine(folder, StateFile)), HeadJson.Default.Head)?.State : null;
        }
        catch (Exception e) when (e is IOException or JsonException)
        {
            return null;
        }
    }

    /// <summary>Opens the journal of a folder, an empty one when there is none.</summary>
    public static (WorldJournal Journal, Kept Kept) Open(string folder)
    {
        Directory.CreateDirectory(folder);
        var state = Path.Combine(folder, StateFile);
        var head = File.Exists(state) ? JsonSerializer.Deserialize(File.ReadAllBytes(state), HeadJson.Default.Head) : null;
        var journal = new WorldJournal(folder, head?.Journal ?? "world-1.journal");
        journal.file.SetLength(head?.Length ?? 0);
        var (sets, taken, told) = journal.Read();
        var kept = new Kept(head?.State, sets.Values, taken, told);

        // Half of it or more is of no use any more: written anew, so that it does not grow for ever.
        if (head is not null && journal.file.Length > (sets.Count * 400L) + (32 << 20))
        {
            journal.Anew(kept);
        }

        return (journal, kept);
    }

    /// <summary>A set is like this now.</summary>
    public void Add(BackupSet s)
    {
        writer.Write(Set);
        writer.Write(s.Database.Value);
        writer.Write(s.Id.Value);
        writer.Write((byte)s.Kind);
        writer.Write(s.Branch);
        Text(s.Parent?.Value);
        Number(s.FromPosition);
        writer.Write(s.ToPosition);
        Time(s.CoversFrom);
        Time(s.CoversTo);
        Time(s.FinishedAt);
        writer.Write(s.DataBytes);
        writer.Write(s.OutsideChain);
        writer.Write(s.RollForward);
        Text(s.Key);
        writer.Write7BitEncodedInt(s.Copies.Count);
        foreach (var c in s.Copies)
        {
            writer.Write(c.Store.Value);
            Time(c.AvailableAt);
            Time(c.RemovedAt);
            Time(c.LockedUntil);
            writer.Write(c.StoredBytes);
            writer.Write((byte)c.State);
        }
    }

    /// <summary>A run took a set, named as "database/set".</summary>
    public void AddTaken(Guid run, string set) => AddAnswer(Taken, run, set);

    /// <summary>A run was told something.</summary>
    public void AddTold(Guid run, string text) => AddAnswer(Told, run, text);

    private void AddAnswer(byte kind, Guid run, string text)
    {
        writer.Write(kind);
        writer.Write(run.ToByteArray());
        writer.Write(text);
    }

    /// <summary>Makes all that was added, and the state, last.</summary>
    public void Keep(WorldState state)
    {
        file.Seek(0, SeekOrigin.End);
        pending.WriteTo(file);
        pending.SetLength(0);
        file.Flush();
        var path = Path.Combine(folder, StateFile);
        File.WriteAllBytes(path + ".new", JsonSerializer.SerializeToUtf8Bytes(new Head(name, file.Length, state), HeadJson.Default.Head));
        File.Move(path + ".new", path, overwrite: true);
    }

    public void Dispose()
    {
        writer.Dispose();
        file.Dispose();
    }

    private void Anew(Kept kept)
    {
        var old = name;
        name = $"world-{int.Parse(old[6..^8], System.Globalization.CultureInfo.InvariantCulture) + 1}.journal";
        file.Dispose();
        file = new FileStream(Path.Combine(folder, name), FileMode.Create, FileAccess.ReadWrite, FileShare.Read, 1);
        foreach (var set in kept.Sets)
        {
            Add(set);
        }

        foreach (var (run, set) in kept.Taken)
        {
            AddTaken(run, set);
        }

        foreach (var (run, text) in kept.Told)
        {
            AddTold(run, text);
        }

        Keep(kept.State!);
        File.Delete(Path.Combine(folder, old));
    }

    private (Dictionary<(string, string), BackupSet> Sets, Dictionary<Guid, string> Taken, Dictionary<Guid, string> Told) Read()
    {
        var sets = new Dictionary<(string, string), BackupSet>();
        var (taken, told) = (new Dictionary<Guid, string>(), new Dictionary<Guid, string>());
        var bytes = new byte[file.Length];
        file.Seek(0, SeekOrigin.Begin);
        file.ReadExactly(bytes);
        var r = new ByteReader(bytes);

        // Few names are many times there.
        var names = new KnownTexts();
        while (!r.AtEnd)
        {
            var next = r.Byte();
            if (next is Taken or Told)
            {
                (next == Taken ? taken : told)[new Guid(r.Bytes(16))] = r.Text();
                continue;
            }

            var set = ReadSet(ref r, names);
            if (set.Copies.All(c => c.RemovedAt is not null))
            {
                sets.Remove((set.Database.Value, set.Id.Value));
            }
            else
            {
                sets[(set.Database.Value, set.Id.Value)] = set;
            }
        }

        return (sets, taken, told);
    }

    private static BackupSet ReadSet(ref ByteReader r, KnownTexts names) => new()
    {
        Database = new(names.Of(r.Utf8())),
        Id = new(r.Text()),
        Kind = (SetKind)r.Byte(),
        Branch = r.Int32(),
        Parent = r.Flag() ? new(names.Of(r.Utf8())) : null,
        FromPosition = r.Flag() ? r.Int64() : null,
        ToPosition = r.Int64(),
        CoversFrom = At(ref r),
        CoversTo = At(ref r)!.Value,
        FinishedAt = At(ref r)!.Value,
        DataBytes = r.Int64(),
        OutsideChain = r.Flag(),
        RollForward = r.Flag(),
        Key = r.Flag() ? names.Of(r.Utf8()) : null,
        Copies = ReadCopies(ref r, names),
    };

    private static BackupCopy[] ReadCopies(ref ByteReader r, KnownTexts names)
    {
        var copies = new BackupCopy[r.Count()];
        for (var i = 0; i < copies.Length; i++)
        {
            copies[i] = new(new(names.Of(r.Utf8())), At(ref r)!.Value, At(ref r), At(ref r), r.Int64(), (CopyState)r.Byte());
        }

        return copies;
    }

    private static Instant? At(ref ByteReader r) => r.Int64() is var ms && ms == long.MinValue ? null : Instant.FromUnixTimeMilliseconds(ms);

    private void Text(string? text)
    {
        writer.Write(text is not null);
        if (text is not null)
        {
            writer.Write(text);
        }
    }

    private void Number(long? number)
    {
        writer.Write(number is not null);
        if (number is { } n)
        {
            writer.Write(n);
        }
    }

    private void Time(Instant? t) => writer.Write(t?.ToUnixTimeMilliseconds() ?? long.MinValue);
}

/// <summary>The state as JSON, by code made when this is built: a world that is opened is waited for. What is not there is not written: it is written twenty times a second.</summary>
[JsonSourceGenerationOptions(DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
[JsonSerializable(typeof(WorldJournal.Head))]
internal sealed partial class HeadJson : JsonSerializerContext;
