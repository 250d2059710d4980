using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Catalogue;

/// <summary>One set where it lies in the columns of its catalogue: for whoever goes through a million of them and keeps none. Its members are those of <see cref="BackupSet"/>.</summary>
public readonly struct SetInColumns
{
    private readonly DatabaseCatalogue of;
    private readonly int index;

    internal SetInColumns(DatabaseCatalogue of, int index) => (this.of, this.index) = (of, index);

    /// <summary>The identifier, in UTF-8.</summary>
    public ReadOnlySpan<byte> Utf8Id => of.Utf8IdOf(index);

    /// <inheritdoc cref="BackupSet.Kind"/>
    public SetKind Kind => of.Kinds[index];

    /// <inheritdoc cref="BackupSet.Branch"/>
    public int Branch => of.Branches[index];

    /// <inheritdoc cref="BackupSet.Parent"/>
    public Id<BackupSet>? Parent => of.ParentOf(index);

    /// <inheritdoc cref="BackupSet.FromPosition"/>
    public long? FromPosition => Kind == SetKind.Log ? of.FromPositions[index] : null;

    /// <inheritdoc cref="BackupSet.ToPosition"/>
    public long ToPosition => of.ToPositions[index];

    /// <inheritdoc cref="BackupSet.CoversFrom"/>
    public Instant? CoversFrom => of.CoversFrom[index] == long.MinValue ? null : Instant.FromUnixTimeMilliseconds(of.CoversFrom[index]);

    /// <inheritdoc cref="BackupSet.CoversTo"/>
    public Instant CoversTo => Instant.FromUnixTimeMilliseconds(of.CoversTo[index]);

    /// <inheritdoc cref="BackupSet.FinishedAt"/>
    public Instant FinishedAt => of.FinishedAt(index);

    /// <inheritdoc cref="BackupSet.DataBytes"/>
    public long DataBytes => of.DataBytes[index];

    /// <inheritdoc cref="BackupSet.OutsideChain"/>
    public bool OutsideChain => of.IsOutsideChain(index);

    /// <inheritdoc cref="BackupSet.RollForward"/>
    public bool RollForward => of.RollsForward(index);

    /// <inheritdoc cref="BackupSet.UsableOn"/>
    public IReadOnlyList<Id<Host>> UsableOn => of.UsableOn(index);

    /// <inheritdoc cref="BackupSet.Key"/>
    public string? Key => of.KeyOf(index);

    /// <summary>How many copies it has.</summary>
    public int Copies => of.CopyEnds[index] - of.CopyStart(index);

    /// <summary>One of its copies.</summary>
    /// <param name="number">Which, from 0.</param>
    public BackupCopy Copy(int number)
    {
        var at = of.CopyStart(index) + number;
        return new BackupCopy(
            of.Stores[of.CopyStores[at]],
            Instant.FromUnixTimeMilliseconds(of.AvailableAt[at]),
            of.RemovedAt is null || of.RemovedAt[at] == DatabaseCatalogue.Open ? null : Instant.FromUnixTimeMilliseconds(of.RemovedAt[at]),
            of.LockedUntil is null || of.LockedUntil[at] == long.MinValue ? null : Instant.FromUnixTimeMilliseconds(of.LockedUntil[at]),
            of.StoredBytes[at],
            of.CopyStates[at]);
    }

    /// <summary>All of it, put together.</summary>
    internal BackupSet Whole()
    {
        var copies = new BackupCopy[Copies];
        for (var c = 0; c < copies.Length; c++)
        {
            copies[c] = Copy(c);
        }

        return new BackupSet
        {
            Id = of.IdOf(index),
            Database = of.Database,
            Kind = Kind,
            Branch = Branch,
            Parent = Parent,
            FromPosition = FromPosition,
            ToPosition = ToPosition,
            CoversFrom = CoversFrom,
            CoversTo = CoversTo,
            FinishedAt = FinishedAt,
            DataBytes = DataBytes,
            OutsideChain = OutsideChain,
            RollForward = RollForward,
            UsableOn = UsableOn,
            Key = Key,
            Copies = copies,
        };
    }
}
