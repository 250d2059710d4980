using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Whether a copy is more open than its source: by networks, accounts, readers and encryption, as far as they are stated.</summary>
public class OpennessTests
{
    private static Host Of(string id, string openTo = "", string signsIn = "", string readBy = "", bool encrypted = false) => PlanWorlds.Harbour(1).HostList[0] with
    {
        Id = new(id),
        OpenTo = Words(openTo),
        SignsIn = Words(signsIn),
        ReadBy = Words(readBy),
        Encrypted = encrypted,
    };

    private static string[] Words(string text) => text.Split(' ', StringSplitOptions.RemoveEmptyEntries);

    [Fact]
    public void What_is_the_same_or_less_open_is_not_named()
    {
        var source = Of("source", "counters offices", "ann bob", "root", encrypted: true);
        Assert.Empty(Openness.Of(source, source with { Id = new("target") }));
        Assert.Empty(Openness.Of(source, Of("target", "offices", "bob", "root", encrypted: true)));
        Assert.Empty(Openness.Of(Of("source"), Of("target", "everybody", "anybody", "all")));
        Assert.Empty(Openness.Of(Of("source", encrypted: false), Of("target", encrypted: true)));
    }

    [Fact]
    public void Each_way_of_being_more_open_is_named_with_who_that_is()
    {
        var said = Openness.Of(Of("source", "counters", "ann", "root", encrypted: true), Of("target", "counters guests", "ann carl", "root backup"));
        Assert.Equal(4, said.Count);
        Assert.EndsWith("from guests", said[0], StringComparison.Ordinal);
        Assert.EndsWith("carl", said[1], StringComparison.Ordinal);
        Assert.EndsWith("by backup", said[2], StringComparison.Ordinal);
        Assert.Contains("not encrypted", said[3], StringComparison.Ordinal);

        // Where a rule of its own lets named hosts in alone, the networks of its host do not count.
        Assert.Equal(said.Skip(1), Openness.Of(Of("source", "counters", "ann", "root", encrypted: true), Of("target", "counters guests", "ann carl", "root backup"), byRule: true));
    }

    [Fact]
    public void What_is_stated_of_the_source_alone_may_hide_anything() =>
        Assert.Contains("not stated of target", Assert.Single(Openness.Of(Of("source", "counters"), Of("target"))), StringComparison.Ordinal);

    [Fact]
    public void On_its_own_host_nothing_can_be_more_open() => Assert.Empty(Openness.Of(Of("source", "a", encrypted: true), Of("source", "b")));
}
