using CsCheck;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The latest instant that several databases have in common, against the definition read plainly.</summary>
public class CommonInstantProperties
{
    private static readonly Instant Start = Instant.FromUtc(2026, 3, 1, 0, 0);

    private static Instant At(int minute) => Start + Duration.FromMinutes(minute);

    /// <summary>A few databases, each with a few intervals that do not touch, single instants among them.</summary>
    private static readonly Gen<(Id<Database> Database, IReadOnlyList<ClosedInterval> Reach)[]> Sets = Gen.Int[0, int.MaxValue - 1].Select(seed =>
    {
        var r = new Random(seed);
        return Enumerable.Range(0, r.Next(1, 6)).Select(i => (new Id<Database>($"d{i}"), ClosedInterval.Merge(Enumerable.Range(0, r.Next(0, 6)).Select(_ =>
        {
            var from = r.Next(0, 60);
            return new ClosedInterval(At(from), At(from + (r.Next(3) == 0 ? 0 : r.Next(0, 25))));
        })))).ToArray();
    });

    /// <summary>Of all ends there are, and the target, the last that lies in all of them.</summary>
    private static Instant? Naive(IEnumerable<IReadOnlyList<ClosedInterval>> sets, Instant target) => sets.SelectMany(s => s).Select(i => Instant.Min(i.To, target)).Append(target)
        .Where(t => t <= target && sets.All(s => s.Any(i => i.Contains(t)))).Select(t => (Instant?)t).Max();

    [Fact]
    public void It_is_the_last_that_lies_in_all_and_who_holds_it_back_is_found_by_leaving_each_out() => Gen.Select(Sets, Gen.Int[0, 90]).Sample((sets, minute) =>
    {
        var target = At(minute);
        var common = CommonInstant.Of(sets, target);
        var latest = Naive(sets.Select(s => s.Reach), target);
        Assert.Equal(latest, common.Latest);
        Assert.Equal(sets.Select(s => s.Database), common.Each.Select(e => e.Database));
        foreach (var (set, own) in sets.Zip(common.Each))
        {
            Assert.Equal(Naive([set.Reach], target), own.Latest);
            Assert.Equal(latest is null ? null : (own.Latest!.Value - latest.Value).TotalSeconds, own.GivesUpSeconds);
        }

        Assert.Equal(
            sets.Length == 1 ? [] : sets.Where(s => Naive(sets.Where(o => o != s).Select(o => o.Reach), target) is { } without && !(without <= latest)).Select(s => s.Database),
            common.HoldsBack);
    });
}
