using Imbrek.PostgreSql.Log;
using Xunit;

namespace Imbrek.PostgreSql.Tests;

/// <summary>How the log is cut into files.</summary>
public class SegmentsTests
{
    private const int Bytes = 1 << 20;

    [Theory]
    [InlineData(0, 0, new long[0])] // quiet time at the end of a file: the next may not be there yet
    [InlineData(0, 1, new long[] { 0 })]
    [InlineData(5, 5, new long[] { 0 })]
    [InlineData(5, Bytes, new long[] { 0 })]
    [InlineData(5, Bytes + 1, new long[] { 0, Bytes })]
    [InlineData(Bytes, 3L * Bytes, new long[] { Bytes, 2L * Bytes })]
    public void A_stretch_lies_in_the_files_that_hold_some_of_it(long from, long to, long[] starts) =>
        Assert.Equal(starts, new Segments(Bytes).Over(new(from), new(to)).Select(s => s.Value));

    [Fact]
    public void A_file_is_named_as_the_engine_names_it_and_read_back()
    {
        var segments = new Segments(Bytes);
        Assert.Equal("00000001000000000000000C", segments.NameOf(1, new(0xC00000)));
        Assert.Equal((3, new Lsn(0x1_0010_0000)), segments.Read(segments.NameOf(3, new(0x1_0010_0000))));
        Assert.All(new[] { "", "00000001", "00000001.history", "00000001000000000000000G" }, n => Assert.Null(segments.Read(n)));
    }
}
