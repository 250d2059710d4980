using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using NodaTime;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261128003601_CopiesInUse")]
    public class CopiesInUse : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<Instant>(
                name: "until",
                table: "runs",
                type: "timestamp with time zone",
                nullable: true);

            migrationBuilder.CreateIndex(
                name: "ix_runs_until",
                table: "runs",
                column: "until",
                filter: "until is not null and claim is not null");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "ix_runs_until",
                table: "runs");

            migrationBuilder.DropColumn(
                name: "until",
                table: "runs");
        }
    }
}
