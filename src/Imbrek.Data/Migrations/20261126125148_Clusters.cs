using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using NodaTime;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261126125148_Clusters")]
    public class Clusters : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "clusters",
                columns: table => new
                {
                    database = table.Column<string>(type: "text", nullable: false),
                    document = table.Column<string>(type: "jsonb", nullable: false),
                    added_by = table.Column<string>(type: "text", nullable: false),
                    added_at = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    owner = table.Column<string>(type: "text", nullable: true),
                    fence = table.Column<long>(type: "bigint", nullable: false),
                    lease_until = table.Column<Instant>(type: "timestamp with time zone", nullable: true),
                    received = table.Column<string>(type: "jsonb", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_clusters", x => x.database);
                });

            migrationBuilder.CreateTable(
                name: "folders",
                columns: table => new
                {
                    kind = table.Column<string>(type: "text", nullable: false),
                    id = table.Column<string>(type: "text", nullable: false),
                    folder = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_folders", x => new { x.kind, x.id });
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "clusters");

            migrationBuilder.DropTable(
                name: "folders");
        }
    }
}
