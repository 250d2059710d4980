using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>What the cover strip and the exposure curve are drawn from: nothing that matters is lost on the way to pixels.</summary>
public class StripTests
{
    private static readonly Instant Start = Instant.FromUtc(2026, 3, 1, 0, 0);

    private static BackupSet Log(int number, long from, long to, params BackupCopy[] copies) => new()
    {
        Id = new($"l{number}"),
        Database = new("d"),
        Kind = SetKind.Log,
        FromPosition = from,
        ToPosition = to,
        CoversFrom = Start + Duration.FromMinutes(number),
        CoversTo = Start + Duration.FromMinutes(number + 1),
        FinishedAt = Start,
        DataBytes = 1,
        Copies = copies.Length > 0 ? copies : [Copy(number + 1)],
    };

    private static BackupCopy Copy(int minute, CopyState state = CopyState.Good, int? removed = null, int? locked = null) => new(
        new("s"), Start + Duration.FromMinutes(minute), removed is { } r ? Start + Duration.FromMinutes(r) : null, locked is { } l ? Start + Duration.FromMinutes(l) : null, 1, state);

    private static IReadOnlyList<CoverTile> Lay(IEnumerable<BackupSet> sets, double atLeastMinutes = 5, int at = 1000) => CoverTile.Lay(
        new DatabaseCatalogue(new("d"), sets), Start, Start + Duration.FromMinutes(1000), Start + Duration.FromMinutes(at), Duration.FromMinutes(atLeastMinutes));

    [Fact]
    public void Logs_that_follow_one_another_become_one_tile() => Assert.Equal(
        (100, null, Start, Start + Duration.FromMinutes(100)),
        Lay(Enumerable.Range(0, 100).Select(i => Log(i, i, i + 1))) is [var one] ? (one.Sets, one.Set?.Value, one.From, one.To) : default);

    [Fact]
    public void A_hole_in_the_positions_is_never_joined_over()
    {
        var tiles = Lay(Enumerable.Range(0, 100).Where(i => i != 40).Select(i => Log(i, i, i + 1)));
        Assert.Equal([40, 59], tiles.OrderBy(t => t.From).Select(t => t.Sets));
    }

    [Fact]
    public void Wide_tiles_stay_apart_and_keep_their_name() =>
        Assert.Equal(["l0", "l1", "l2"], Lay(Enumerable.Range(0, 3).Select(i => Log(i, i, i + 1)), atLeastMinutes: 0.5).Select(t => t.Set?.Value));

    [Fact]
    public void Damaged_and_removed_copies_are_not_hidden_among_good_ones()
    {
        var tiles = Lay([Log(0, 0, 1), Log(1, 1, 2, Copy(2, CopyState.Damaged)), Log(2, 2, 3, Copy(3, removed: 500)), Log(3, 3, 4, Copy(4, locked: 2000))]).OrderBy(t => t.From).ToArray();
        Assert.Equal([(false, false), (true, false), (false, true), (false, false)], tiles.Select(t => (t.Damaged, t.Removed)));
        Assert.True(tiles[3].Locked);
    }

    [Fact]
    public void A_copy_that_is_not_there_yet_is_not_drawn() => Assert.Empty(Lay([Log(10, 0, 1)], at: 5));

    [Fact]
    public void Every_set_of_the_strip_is_counted_once_a_copy() => Worlds.Gen.Sample(
        w =>
        {
            var tiles = CoverTile.Lay(new DatabaseCatalogue(new("d"), w.Sets), Worlds.Start, Worlds.End, Worlds.End + Duration.FromDays(1), Duration.FromMinutes(15));
            var copies = w.Sets.Where(s => (s.CoversFrom ?? s.CoversTo) <= Worlds.End).Sum(s => s.Copies.Count);
            Assert.Equal(copies, tiles.Sum(t => t.Sets));
        },
        iter: 1000);

    [Fact]
    public void Folding_the_curve_into_columns_loses_no_peak_and_no_stretch_without_cover() => Worlds.Gen.Sample(
        w =>
        {
            var subject = RecoverySubject.Of(w.Fleet, w.Database, new DatabaseCatalogue(new("d"), w.Sets));
            var figures = Evaluator.Over(subject, w.Loss, Worlds.Start, w.At);
            var steps = Evaluator.Curve(subject, w.Loss, Worlds.Start, w.At);
            foreach (var columns in (int[])[1, 7, 50])
            {
                var folded = ExposureColumn.Fold(steps, Worlds.Start, w.At, columns);
                Assert.Equal(columns, folded.Count);
                Assert.Equal(figures.WorstExposureSeconds ?? 0, folded.Max(c => c.WorstSeconds) ?? 0, 3);
                Assert.Equal(figures.SecondsUnprotected > 0, folded.Any(c => c.Unprotected));
                Assert.All(folded, c => Assert.True(c.WorstSeconds is null || c.LeastSeconds <= c.WorstSeconds));
            }
        },
        iter: 1000);

    [Theory]
    [InlineData(5, false, null, 10)]
    [InlineData(10, true, 10, 10)]
    [InlineData(15, true, 15, 15)]
    [InlineData(25, false, 20, 30)]
    [InlineData(30, true, 30, 30)]
    [InlineData(40, false, 30, null)]
    public void Nearest_instants_lie_on_either_side(int wanted, bool inside, int? before, int? after)
    {
        Instant At(int m) => Start + Duration.FromMinutes(m);
        var nearest = NearestInstants.To(At(wanted), [new(At(10), At(20)), new(At(30), At(30))]);
        Assert.Equal(new NearestInstants(inside, before is { } b ? At(b) : null, after is { } a ? At(a) : null), nearest);
    }
}
