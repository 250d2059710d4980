using Imbrek.Core.Recovery;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Bytes as people read them.</summary>
public class PlainBytesTests
{
    [Theory]
    [InlineData(0, "0 bytes")]
    [InlineData(999, "999 bytes")]
    [InlineData(1_000, "1 kB")]
    [InlineData(310_400, "310.4 kB")]
    [InlineData(1_000_000, "1 MB")]
    [InlineData(4_250_000_000, "4.3 GB")]
    [InlineData(1_200_000_000_000, "1200 GB")]
    public void In_the_largest_unit_of_which_there_is_one_to_a_tenth(long bytes, string words) => Assert.Equal(words, PlainBytes.Of(bytes));
}
