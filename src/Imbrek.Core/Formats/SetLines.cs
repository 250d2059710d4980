using System.Text;
using System.Text.Json;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>
/// Reads lines that hold a set of which there is nothing to say, in one pass and into nothing but the set: of a million of them that takes a third of the time. Of any other line, whatever is the matter, it says nothing
/// and gives nothing: <see cref="LocatedJson"/> reads that and says what is wrong. What it gives is what would be read there, without a fault or a warning.
/// </summary>
internal sealed class SetLines(FleetModel fleet)
{
    private static readonly (byte[] Name, SetKind Kind)[] Kinds = [.. CatalogueFile.Kinds.Select(k => (Encoding.UTF8.GetBytes(k.Key), k.Value))];

    private static readonly (byte[] Name, CopyState State)[] States = [.. CatalogueFile.States.Select(s => (Encoding.UTF8.GetBytes(s.Key), s.Value))];

    private readonly Dictionary<string, Id<Database>> databases = fleet.Databases.ToDictionary(d => d.Id.Value, d => d.Id);

    private readonly Dictionary<string, Id<Store>> stores = fleet.StoreList.ToDictionary(s => s.Id.Value, s => s.Id);

    [Flags]
    private enum Member
    {
        None = 0,
        Type = 1,
        Id = 1 << 1,
        Database = 1 << 2,
        Kind = 1 << 3,
        Branch = 1 << 4,
        Parent = 1 << 5,
        FromPosition = 1 << 6,
        ToPosition = 1 << 7,
        CoversFrom = 1 << 8,
        CoversTo = 1 << 9,
        FinishedAt = 1 << 10,
        DataBytes = 1 << 11,
        OutsideChain = 1 << 12,
        RollForward = 1 << 13,
        UsableOn = 1 << 14,
        Key = 1 << 15,
        Copies = 1 << 16,
        Store = 1 << 17,
        AvailableAt = 1 << 18,
        RemovedAt = 1 << 19,
        LockedUntil = 1 << 20,
        StoredBytes = 1 << 21,
        State = 1 << 22,
    }

    private const Member OfCopies = Member.Store | Member.AvailableAt | Member.RemovedAt | Member.LockedUntil | Member.StoredBytes | Member.State;

    /// <summary>The set of a line; null when it is to be read otherwise.</summary>
    public BackupSet? Read(ReadOnlySpan<byte> line)
    {
        var reader = new Utf8JsonReader(line);
        try
        {
            return reader.Read() && reader.TokenType == JsonTokenType.StartObject && ReadSet(ref reader) is { } set && !reader.Read() ? set : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private BackupSet? ReadSet(ref Utf8JsonReader r)
    {
        var seen = Member.None;
        var (isSet, id, parent, key) = (false, default(string), default(string), default(string));
        var (database, kind, copies) = (default(Id<Database>?), default(SetKind?), default(BackupCopy[]));
        var (branch, fromPosition, toPosition, dataBytes) = (default(long?), default(long?), default(long?), default(long?));
        var (coversFrom, coversTo, finishedAt) = (default(Instant?), default(Instant?), default(Instant?));
        var (outside, roll) = (default(bool?), default(bool?));
        while (Next(ref r, ref seen) is { } member)
        {
            if (r.TokenType == JsonTokenType.Null)
            {
                continue;
            }

            var good = member switch
            {
                Member.Type => isSet = IsText(ref r) && r.ValueSpan.SequenceEqual("set"u8),
                Member.Id => (id = Name(ref r)) is not null,
                Member.Database => (database = Known(ref r, databases)) is not null,
                Member.Kind => (kind = Choice(ref r, Kinds)) is not null,
                Member.Branch => (branch = Number(ref r, 1, int.MaxValue)) is not null,
                Member.Parent => (parent = Name(ref r)) is not null,
                Member.FromPosition => (fromPosition = Number(ref r, long.MinValue, long.MaxValue)) is not null,
                Member.ToPosition => (toPosition = Number(ref r, long.MinValue, long.MaxValue)) is not null,
                Member.CoversFrom => (coversFrom = Time(ref r)) is not null,
                Member.CoversTo => (coversTo = Time(ref r)) is not null,
                Member.FinishedAt => (finishedAt = Time(ref r)) is not null,
                Member.DataBytes => (dataBytes = Number(ref r, 0, InputBounds.Bytes)) is not null,
                Member.OutsideChain => (outside = Flag(ref r)) is not null,
                Member.RollForward => (roll = Flag(ref r)) is not null,
                Member.UsableOn => r.TokenType == JsonTokenType.StartArray && r.Read() && r.TokenType == JsonTokenType.EndArray,
                Member.Key => IsText(ref r) && r.ValueSpan.Length <= InputBounds.Name && (key = Encoding.ASCII.GetString(r.ValueSpan)) is not null,
                Member.Copies => (copies = ReadCopies(ref r)) is not null,
                _ => false,
            };
            if (!good)
            {
                return null;
            }
        }

        var log = kind == SetKind.Log;
        if (r.TokenType != JsonTokenType.EndObject || !isSet || id is null || database is null || kind is null || toPosition is null || coversTo is null || dataBytes is null || copies is null
            || (log && (fromPosition is null || coversFrom is null)))
        {
            return null;
        }

        for (var i = 0; i < copies.Length; i++)
        {
            if (copies[i].AvailableAt < coversTo || IsTwiceThere(copies, i))
            {
                return null;
            }
        }

        return new BackupSet
        {
            Id = new(id),
            Database = database.Value,
            Kind = kind.Value,
            Branch = (int)(branch ?? 1),
            Parent = parent is null ? null : new(parent),
            FromPosition = fromPosition,
            ToPosition = toPosition.Value,
            CoversFrom = coversFrom,
            CoversTo = coversTo.Value,
            FinishedAt = finishedAt ?? coversTo.Value,
            DataBytes = dataBytes.Value,
            OutsideChain = outside ?? false,
            RollForward = roll ?? kind != SetKind.Export,
            Key = key,
            Copies = copies,
        };
    }

    private BackupCopy[]? ReadCopies(ref Utf8JsonReader r)
    {
        if (r.TokenType != JsonTokenType.StartArray)
        {
            return null;
        }

        var copies = new List<BackupCopy>(1);
        while (r.Read() && r.TokenType == JsonTokenType.StartObject)
        {
            if (ReadCopy(ref r) is not { } copy)
            {
                return null;
            }

            copies.Add(copy);
        }

        return r.TokenType == JsonTokenType.EndArray ? [.. copies] : null;
    }

    private BackupCopy? ReadCopy(ref Utf8JsonReader r)
    {
        // What is said of sets is not known of copies.
        var seen = ~OfCopies;
        var (store, available, removed, locked) = (default(Id<Store>?), default(Instant?), default(Instant?), default(Instant?));
        var (stored, state) = (default(long?), default(CopyState?));
        while (Next(ref r, ref seen) is { } member)
        {
            if (r.TokenType == JsonTokenType.Null)
            {
                continue;
            }

            var good = member switch
            {
                Member.Store => (store = Known(ref r, stores)) is not null,
                Member.AvailableAt => (available = Time(ref r)) is not null,
                Member.RemovedAt => (removed = Time(ref r)) is not null,
                Member.LockedUntil => (locked = Time(ref r)) is not null,
                Member.StoredBytes => (stored = Number(ref r, 0, InputBounds.Bytes)) is not null,
                Member.State => (state = Choice(ref r, States)) is not null,
                _ => false,
            };
            if (!good)
            {
                return null;
            }
        }

        return r.TokenType == JsonTokenType.EndObject && store is not null && available is not null && stored is not null
            ? new BackupCopy(store.Value, available.Value, removed, locked, stored.Value, state ?? CopyState.Unverified)
            : null;
    }

    private static bool IsTwiceThere(BackupCopy[] copies, int i)
    {
        for (var before = 0; before < i && copies[i].RemovedAt is null; before++)
        {
            if (copies[before].RemovedAt is null && copies[before].Store == copies[i].Store)
            {
                return true;
            }
        }

        return false;
    }

    /// <summary>Goes to the value of the next member; null at the end of the object, and for a member that is not known or is given twice.</summary>
    private static Member? Next(ref Utf8JsonReader r, ref Member seen)
    {
        if (!r.Read() || r.TokenType != JsonTokenType.PropertyName)
        {
            return null;
        }

        var member = r.ValueIsEscaped ? Member.None : MemberOf(r.ValueSpan);
        if (member == Member.None || (seen & member) != 0)
        {
            return null;
        }

        seen |= member;
        r.Read();
        return member;
    }

    private static Member MemberOf(ReadOnlySpan<byte> name) => name.Length switch
    {
        2 when name.SequenceEqual("id"u8) => Member.Id,
        3 when name.SequenceEqual("key"u8) => Member.Key,
        4 when name.SequenceEqual("type"u8) => Member.Type,
        4 when name.SequenceEqual("kind"u8) => Member.Kind,
        5 when name.SequenceEqual("store"u8) => Member.Store,
        5 when name.SequenceEqual("state"u8) => Member.State,
        6 when name.SequenceEqual("copies"u8) => Member.Copies,
        6 when name.SequenceEqual("parent"u8) => Member.Parent,
        6 when name.SequenceEqual("branch"u8) => Member.Branch,
        8 when name.SequenceEqual("database"u8) => Member.Database,
        8 when name.SequenceEqual("usableOn"u8) => Member.UsableOn,
        8 when name.SequenceEqual("coversTo"u8) => Member.CoversTo,
        9 when name.SequenceEqual("dataBytes"u8) => Member.DataBytes,
        9 when name.SequenceEqual("removedAt"u8) => Member.RemovedAt,
        10 when name.SequenceEqual("coversFrom"u8) => Member.CoversFrom,
        10 when name.SequenceEqual("finishedAt"u8) => Member.FinishedAt,
        10 when name.SequenceEqual("toPosition"u8) => Member.ToPosition,
        11 when name.SequenceEqual("availableAt"u8) => Member.AvailableAt,
        11 when name.SequenceEqual("lockedUntil"u8) => Member.LockedUntil,
        11 when name.SequenceEqual("storedBytes"u8) => Member.StoredBytes,
        11 when name.SequenceEqual("rollForward"u8) => Member.RollForward,
        12 when name.SequenceEqual("fromPosition"u8) => Member.FromPosition,
        12 when name.SequenceEqual("outsideChain"u8) => Member.OutsideChain,
        _ => Member.None,
    };

    /// <summary>Whether it is a text of one or more characters that can be seen and are nothing but themselves.</summary>
    private static bool IsText(ref Utf8JsonReader r) =>
        r.TokenType == JsonTokenType.String && !r.ValueIsEscaped && !r.ValueSpan.IsEmpty && !r.ValueSpan.ContainsAnyExceptInRange((byte)' ', (byte)'~');

    private static string? Name(ref Utf8JsonReader r)
    {
        if (!IsText(ref r) || r.ValueSpan.Length > InputBounds.SetName)
        {
            return null;
        }

        Span<char> name = stackalloc char[InputBounds.SetName];
        name = name[..Encoding.ASCII.GetChars(r.ValueSpan, name)];
        return InputBounds.WhatIsWrongWithId(name, InputBounds.SetName) is null ? name.ToString() : null;
    }

    private static Id<T>? Known<T>(ref Utf8JsonReader r, Dictionary<string, Id<T>> known)
    {
        if (!IsText(ref r) || r.ValueSpan.Length > InputBounds.Name)
        {
            return null;
        }

        Span<char> name = stackalloc char[InputBounds.Name];
        name = name[..Encoding.ASCII.GetChars(r.ValueSpan, name)];
        return known.GetAlternateLookup<ReadOnlySpan<char>>().TryGetValue(name, out var id) ? id : null;
    }

    private static T? Choice<T>(ref Utf8JsonReader r, (byte[] Name, T Value)[] choices)
        where T : struct
    {
        if (IsText(ref r))
        {
            foreach (var (name, value) in choices)
            {
                if (r.ValueSpan.SequenceEqual(name))
                {
                    return value;
                }
            }
        }

        return null;
    }

    private static long? Number(ref Utf8JsonReader r, long atLeast, long atMost) =>
        r.TokenType == JsonTokenType.Number && r.TryGetInt64(out var number) && number >= atLeast && number <= atMost ? number : null;

    private static Instant? Time(ref Utf8JsonReader r) => IsText(ref r) && Instants.TryParse(r.ValueSpan, out var at) ? at : null;

    private static bool? Flag(ref Utf8JsonReader r) => r.TokenType is JsonTokenType.True or JsonTokenType.False ? r.TokenType == JsonTokenType.True : null;
}
